"""Seeded damage to every kind of file that Vonkel reads.  `python -m tests.fuzz 20000` does a long run of all."""
