"""Steps from one form of the ledger to the next, for Alembic."""
