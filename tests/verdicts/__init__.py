"""Sound set-ups and planted faults, and what rehearsal and record say of them."""
