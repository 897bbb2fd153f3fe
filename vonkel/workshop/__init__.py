"""The workshop: characters in the store, worked on through steps.  The web and the command line stand on it."""

from . import brushes as brushes  # enters the brushes
from .jobs import Job, Jobs
from .workshop import Workshop

__all__ = ["Job", "Jobs", "Workshop"]
