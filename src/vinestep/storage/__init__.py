"""How anything is kept: archives of arrays, stores of runs, the schema of states, JSON values,
settings, lineage.

Internal. Training and the record of runs both stand on it; it knows neither.
"""
