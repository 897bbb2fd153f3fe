"""The rules of the job and its computation.  Imports no web, no store and no database.

`docs/architecture.md` draws its rooms, each knowing only those below it; `pyproject.toml` has that checked.
"""
