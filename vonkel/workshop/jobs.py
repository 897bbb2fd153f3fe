"""Long work off the request: a few at a time, with progress, which can be stopped."""

from __future__ import annotations

import itertools
import logging
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

from ..core.errors import NotFound, Stopped, VonkelError
from ..core.progress import listening

AT_ONCE = 4  # jobs; further ones wait

log = logging.getLogger("vonkel.jobs")


@dataclass
class Job:
    """One piece of long work.  `state`: running, done, failed or stopped."""

    id: int
    title: str
    character: int
    state: str = "running"
    share: float = 0.0
    doing: str = ""
    result: Any = None
    error: dict[str, str] | None = None
    began: float = field(default_factory=time.time)
    ended: float | None = None
    stop_wanted: threading.Event = field(default_factory=threading.Event)
    over: threading.Event = field(default_factory=threading.Event)

    def as_dict(self) -> dict[str, Any]:
        return {
            "id": self.id, "title": self.title, "character": self.character, "state": self.state,
            "share": round(self.share, 3), "doing": self.doing, "result": self.result, "error": self.error,
            "seconds": round((self.ended or time.time()) - self.began, 2),
        }  # fmt: skip


class Jobs:
    """Runs jobs; keeps the last fifty."""

    def __init__(self) -> None:
        self._numbers = itertools.count(1)
        self._jobs: OrderedDict[int, Job] = OrderedDict()
        self._lock = threading.Lock()
        self._pool = ThreadPoolExecutor(AT_ONCE, "job")

    def close(self) -> None:
        """Stop what runs, and what waits with it."""
        with self._lock:
            for job in self._jobs.values():
                job.stop_wanted.set()
        self._pool.shutdown(wait=False, cancel_futures=True)

    def start(self, title: str, character: int, work: Callable[[], Any]) -> Job:
        """Begin `work`, or let it wait for its turn; its return value becomes the job's result."""
        job = Job(next(self._numbers), title, character, doing="waiting")
        with self._lock:
            self._jobs[job.id] = job
            for old in [i for i, j in self._jobs.items() if j.state != "running"][:-50]:
                del self._jobs[old]
        self._pool.submit(self._run, job, work)
        return job

    def _run(self, job: Job, work: Callable[[], Any]) -> None:
        def listen(share: float, doing: str) -> None:
            job.share, job.doing = share, doing
            if job.stop_wanted.is_set():
                raise Stopped(f"{job.title} was stopped.", "", "Nothing was changed.")

        try:
            listen(0.0, "")
            with listening(listen):
                job.result = work()
            job.state, job.share = "done", 1.0
        except Stopped as error:
            job.state, job.error = "stopped", error.as_dict()
        except VonkelError as error:
            job.state, job.error = "failed", error.as_dict()
        except Exception:
            log.exception("job %s failed", job.title)
            job.state = "failed"
            job.error = {
                "what": "Something went wrong inside Vonkel.",
                "where": job.title,
                "todo": "Nothing was changed. The log says more.",
            }
        finally:
            job.ended = time.time()
            job.over.set()

    def get(self, job: int) -> Job:
        with self._lock:
            if job not in self._jobs:
                raise NotFound("There is no such job.", f"number {job}", "It may have ended long ago.")
            return self._jobs[job]

    def stop(self, job: int) -> Job:
        found = self.get(job)
        found.stop_wanted.set()
        return found
