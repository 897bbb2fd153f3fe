"""What sqlite says when it can't go on, in words that say what to do.  Nothing acknowledged is ever lost by these."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ..core.errors import NotFound, StoreTrouble

# Primary result codes (sqlite.org, “Result and Error Codes”); extended codes carry them in their low byte.
FULL = ("The disk is full.", "Free some space and do it again; nothing that was stored is lost.")
LOCKED = ("The store is in use by another program.", "Close what holds it open, then do it again.")
READ_ONLY = ("The store can't be written.", "Allow this user to write the file and its folder, then do it again.")
CANT_OPEN = ("The store can't be opened.", "Does the folder exist, and may this user read and write it?")
DAMAGED = (
    "The store is damaged.",
    "Put it aside and take a copy from before in its place; characters kept as .vonkel files can be brought in again.",
)
BY_CODE = {
    sqlite3.SQLITE_FULL: FULL, sqlite3.SQLITE_BUSY: LOCKED, sqlite3.SQLITE_LOCKED: LOCKED,
    sqlite3.SQLITE_READONLY: READ_ONLY, sqlite3.SQLITE_PERM: READ_ONLY, sqlite3.SQLITE_CANTOPEN: CANT_OPEN,
    sqlite3.SQLITE_CORRUPT: DAMAGED, sqlite3.SQLITE_NOTADB: DAMAGED, sqlite3.SQLITE_ERROR: DAMAGED,
    sqlite3.SQLITE_TOOBIG: ("That is larger than the store can hold.", "Bring in a lighter mesh."),
    sqlite3.SQLITE_IOERR: ("The disk can't be read or written.", "Is it full, or taken away? Mend that, then do it again."),
}  # fmt: skip


@contextmanager
def told(path: Path) -> Iterator[None]:
    """Whatever sqlite or the file system says against the work inside, as a StoreTrouble that says what to do."""
    try:
        yield
    except sqlite3.Error as error:
        raise store_trouble(error, path) from error
    except OverflowError:  # sqlite's own whole numbers end at 2**63
        raise NotFound("There is nothing of that number.", "", "Choose from the characters or the ledger.") from None
    except OSError as error:
        raise StoreTrouble(*_parts(CANT_OPEN, f"{path}: {error.strerror or error}")) from error


def store_trouble(error: sqlite3.Error, path: Path) -> StoreTrouble:
    """The project's own error for one of sqlite's."""
    code = getattr(error, "sqlite_errorcode", None)
    if code is None and isinstance(error, sqlite3.DatabaseError):
        words = DAMAGED
    else:
        words = BY_CODE.get(
            (code or 0) & 0xFF, ("The store can't go on.", "Do it again; restart Vonkel if that fails.")
        )
    return StoreTrouble(*_parts(words, f"{path}: {error}"))


def damaged(path: Path, how: str) -> StoreTrouble:
    return StoreTrouble(*_parts(DAMAGED, f"{path}: {how}"))


def newer(path: Path, version: int, known: int) -> StoreTrouble:
    """For a store whose schema this Vonkel doesn't know."""
    if version < 0:
        return damaged(path, f"its version is {version}")
    return StoreTrouble(
        "The store was made by a newer Vonkel.", f"{path}: version {version}, this one knows up to {known}",
        "Start the newer one, or choose another folder with --store; nothing in it was touched.",
    )  # fmt: skip


def _parts(words: tuple[str, str], where: str) -> tuple[str, str, str]:
    return words[0], where, words[1]
