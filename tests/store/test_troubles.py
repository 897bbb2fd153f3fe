"""A disk that is full, a folder that can't be written, a store that is newer, damaged or held by another program: one clear
sentence each, on the page and on the command line, nothing lost, and work that goes on when the cause is gone."""

import os
import shutil
import sqlite3
import subprocess
import sys
import threading

import numpy as np
import pytest
from fastapi.testclient import TestClient

from tests.conftest import ROOT, tube
from vonkel.core.errors import StoreTrouble
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.store import store as store_module
from vonkel.web.app import Settings, create_app
from vonkel.workshop import Workshop

LOCAL = {"host": "127.0.0.1"}


@pytest.fixture
def shop(tmp_path):
    made = Workshop(tmp_path)
    made.add(character_from_mesh(tube(), "tube"), {"file": "tube.obj"}, "Brought in tube.obj")
    return made


@pytest.fixture
def client(shop, tmp_path):
    return TestClient(create_app(Settings(tmp_path)), base_url="http://127.0.0.1:8321", raise_server_exceptions=False)


def stand(client, turn=9.0):
    return client.post("/api/c/1/steps", json={"step": "model.stand", "params": {"turn": turn}})


def command(folder, *words, **more):
    return subprocess.run(
        [sys.executable, "-m", "vonkel.cli", *words, "--store", str(folder)],
        capture_output=True,
        text=True,
        cwd=ROOT,
        **more,
    )


def full(monkeypatch):
    """Let every connection believe that its disk has no page left."""
    connect = sqlite3.connect

    def small(*args, **kw):
        db = connect(*args, **kw)
        pages = db.execute("PRAGMA page_count").fetchone()[0]
        db.execute(f"PRAGMA max_page_count = {pages}")
        return db

    monkeypatch.setattr(store_module.sqlite3, "connect", small)


def test_a_full_disk_is_said_and_work_goes_on_when_there_is_room(shop, client, monkeypatch):
    before = len(shop.store.ledger(1))
    with monkeypatch.context() as patch:
        full(patch)
        said = stand(client)
        assert said.status_code == 503
        assert "disk is full" in said.json()["error"]["what"]
        assert "Free some space" in said.json()["error"]["todo"]
        assert client.get("/api/c/1").status_code == 200  # what is there can still be looked at
    assert len(shop.store.ledger(1)) == before
    assert stand(client).status_code == 200
    assert len(shop.store.ledger(1)) == before + 1


@pytest.mark.skipif(os.geteuid() != 0, reason="a small disk is mounted")
def test_a_disk_that_is_really_full(tmp_path):
    """A disk of two megabytes, in a mount namespace of its own."""
    if subprocess.run(["unshare", "-m", "true"], capture_output=True).returncode:
        pytest.skip("no namespaces here")
    disk, script = tmp_path / "disk", tmp_path / "try.py"
    disk.mkdir()
    script.write_text(
        f"""
import os, pathlib
from tests.conftest import tube
from vonkel.core.errors import StoreTrouble
from vonkel.core.formats.mesh import character_from_mesh
from vonkel.workshop import Workshop
folder = pathlib.Path({str(disk)!r})
shop = Workshop(folder)
number = shop.add(character_from_mesh(tube(), "tube"), {{}}, "Made")
room = os.statvfs(folder)
(folder / "filler").write_bytes(b"x" * (room.f_bavail * room.f_frsize - 40_000))
said = None
for i in range(60):
    try:
        shop.apply(number, "model.stand", {{"turn": 3.0 + i}})
    except StoreTrouble as error:
        said = error
        break
assert said is not None and "full" in str(said), said
steps = len(shop.store.ledger(number))
(folder / "filler").unlink()
shop.apply(number, "model.stand", {{"turn": 1.0}})
assert len(Workshop(folder).store.ledger(number)) == steps + 1
print("went on")
"""
    )
    mount = f"mount -t tmpfs -o size=2m tmpfs {disk} && exec {sys.executable} {script}"
    done = subprocess.run(
        ["unshare", "-m", "sh", "-c", mount],
        capture_output=True,
        text=True,
        cwd=ROOT,
        env={**os.environ, "PYTHONPATH": str(ROOT)},
    )
    assert done.stdout.strip() == "went on", done.stderr[-2000:]


def test_a_folder_that_may_not_be_written(shop, client, tmp_path):
    """As another user: the file can be read, and nothing can be put into it or beside it."""
    if os.geteuid() != 0:
        tmp_path.chmod(0o555)
        (tmp_path / "vonkel.db").chmod(0o444)
    for folder in (tmp_path, *tmp_path.parents):  # test folders are closed to others
        if os.geteuid() == 0 and str(folder).startswith("/tmp/"):
            folder.chmod(0o755)
    try:
        if os.geteuid() == 0:
            os.seteuid(65534)
        said = stand(client)
    finally:
        if os.getuid() == 0:
            os.seteuid(0)
        else:
            tmp_path.chmod(0o755)
            (tmp_path / "vonkel.db").chmod(0o644)
    assert said.status_code == 503
    assert "written" in said.json()["error"]["what"] or "opened" in said.json()["error"]["what"]
    assert "user" in said.json()["error"]["todo"]
    assert stand(client).status_code == 200


@pytest.mark.parametrize("version, words", [(99, "newer Vonkel"), (-1, "damaged")])
def test_a_store_of_another_version_is_left_alone(shop, tmp_path, version, words):
    path = tmp_path / "vonkel.db"
    with sqlite3.connect(path) as db:
        db.execute(f"PRAGMA user_version = {version}")
    db.close()
    with pytest.raises(StoreTrouble, match=words):
        Workshop(tmp_path)
    said = command(tmp_path, "check", "1")
    assert said.returncode == StoreTrouble.exit_code
    assert words in said.stderr
    assert "Traceback" not in said.stderr
    with sqlite3.connect(path) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == version
        db.execute("PRAGMA user_version = 2")
    db.close()
    assert len(Workshop(tmp_path).store.ledger(1)) == 1


def test_a_damaged_store_says_so_on_the_page_and_on_the_command_line(shop, client, tmp_path):
    path = tmp_path / "vonkel.db"
    with sqlite3.connect(path) as db:
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.close()
    kept = tmp_path / "kept.db"
    shutil.copy(path, kept)
    path.write_bytes(b"no database at all " * 4000)
    for address, kind in (("/api/c/1", "application/json"), ("/", "text/html")):
        said = client.get(address, headers={"accept": kind})
        assert said.status_code == 503
        assert "The store is damaged" in said.text
    said = command(tmp_path, "check", "1")
    assert said.returncode == StoreTrouble.exit_code
    assert "The store is damaged" in said.stderr
    assert "Traceback" not in said.stderr
    shutil.copy(kept, path)  # a copy from before is put in its place
    assert client.get("/api/c/1").status_code == 200


def test_flipped_bits_in_what_is_stored_are_noticed(shop, tmp_path):
    """Arrays and documents are compared with their hashes; sqlite itself sees nothing wrong."""
    with sqlite3.connect(tmp_path / "vonkel.db") as db:
        rows = db.execute("SELECT hash, data FROM blob").fetchall()
        assert len(rows) >= 3
        for digest, data in rows:
            other = bytearray(data)
            other[len(other) // 2] ^= 4
            db.execute("UPDATE blob SET data = ? WHERE hash = ?", (bytes(other), digest))
    db.close()
    with pytest.raises(StoreTrouble, match="isn't what was stored"):
        Workshop(tmp_path).character(1)


def test_a_store_held_by_another_program_is_waited_for_and_then_said(shop, client, tmp_path, monkeypatch):
    monkeypatch.setattr(store_module, "PATIENCE", 0.3)
    other = sqlite3.connect(tmp_path / "vonkel.db", isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    said = stand(client)
    other.execute("ROLLBACK")
    other.close()
    assert said.status_code == 503
    assert "in use by another program" in said.json()["error"]["what"]
    assert stand(client).status_code == 200


def test_a_character_that_cant_be_read_leaves_the_others_on_the_shelf(shop, client, tmp_path):
    shop.add(character_from_mesh(tube(), "other"), {}, "Made")
    shop.apply(1, "model.rename", {"name": "Fox"})
    step = shop.store.position(1).step
    with sqlite3.connect(tmp_path / "vonkel.db") as db:  # as 0.3.0 stored a name with a slash
        import zlib

        digest = db.execute("SELECT snapshot FROM step WHERE id = ?", (step,)).fetchone()[0]
        document, arrays = db.execute("SELECT document, arrays FROM snapshot WHERE hash = ?", (digest,)).fetchone()
        text = zlib.decompress(document).decode().replace('"name":"Fox"', '"name":"Fox / v2"')
        new = store_module._snapshot_hash(text, arrays)
        db.execute("INSERT INTO snapshot VALUES (?, ?, ?)", (new, zlib.compress(text.encode()), arrays))
        db.execute("UPDATE step SET snapshot = ? WHERE id = ?", (new, step))
    db.close()
    page = TestClient(create_app(Settings(tmp_path)), base_url="http://127.0.0.1:8321")
    shelf = page.get("/", headers={"accept": "text/html"})
    assert shelf.status_code == 200
    assert "This state of the character can&#39;t be read" in shelf.text
    assert "Take the last step back" in shelf.text
    assert page.get("/c/2").status_code == 200
    assert page.post("/api/c/1/undo", json={}).status_code == 200  # the way on that the card offers
    assert page.get("/c/1").status_code == 200


def test_the_size_of_the_store_is_told_while_its_side_file_comes_and_goes(shop, tmp_path):
    """sqlite takes its -wal away at any moment; asking for the size never fails for it."""
    going, faults = threading.Event(), []

    def blink():
        side = tmp_path / "vonkel.db-wal"
        while not going.is_set():
            side.write_bytes(b"")
            side.unlink(missing_ok=True)

    blinking = threading.Thread(target=blink)
    blinking.start()
    try:
        for _ in range(4000):
            assert shop.store.bytes_used() > 0
    except OSError as error:
        faults.append(error)
    going.set()
    blinking.join()
    assert faults == []


def test_numbers_beyond_what_the_store_can_hold_are_simply_not_there(client):
    huge = 2**63
    for address in (
        f"/api/c/{huge}",
        f"/c/{huge}",
        f"/api/c/{huge}/ledger",
        f"/api/c/1/states/{huge}.png",
        f"/api/plans/{huge}.json",
    ):
        assert client.get(address).status_code == 404, address
    assert client.delete(f"/api/c/{huge}").status_code == 404
    assert client.post("/api/c/1/go", json={"step": huge}).status_code == 404
    assert client.get(f"/api/c/1/compare?a={huge}&b=1").status_code == 404


def test_a_step_is_looked_up_whole(shop):
    """A state whose snapshot was compacted away is worked out once, not at every look."""
    from vonkel.workshop import workshop as module

    for turn in (3.0, 5.0, 7.0):
        shop.apply(1, "model.stand", {"turn": turn})
    middle = shop.store.ledger(1)[2].id
    key = shop.character(1, middle).key
    shop.store.compact(keep=1)
    shop._cache.clear()
    done = []
    real = module.apply_step

    def counted(*args):
        done.append(args[1])
        return real(*args)

    module.apply_step = counted
    try:
        keys = [shop.character(1, middle).key for _ in range(3)]
    finally:
        module.apply_step = real
    assert keys == [key] * 3
    assert len(done) == 2  # two steps from the first state, once
    assert np.isfinite(shop.character(1, middle).points).all()
