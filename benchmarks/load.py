"""Twenty clients at once, each on a character of its own among ten, and five sockets dragging a hand all the while.

Every client in turn: shelf, state, ledger, mesh, weights, a pose entry, a rename, a bend, a joint's freedom, undo.  Beside them a
bare server of the same kind echoes as many bytes as a plain read brings, asked in the same run by the same clients.  All of it
on this machine's own loopback address; it ends by itself after SECONDS (300).

    python -m benchmarks.load [SECONDS]
"""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
import tempfile
import time
from collections import Counter, defaultdict
from pathlib import Path

import httpx2 as httpx
import numpy as np
import websockets

from tests.conftest import Server
from vonkel.demo import DATA, READY
from vonkel.workshop import Workshop

CLIENTS, CHARACTERS, DRAGGERS = 20, 10, 5
PLAIN = ("shelf", "state", "ledger", "mesh", "weights")
ECHO = """
import sys, uvicorn
async def app(scope, receive, send):
    if scope["type"] != "http":
        return
    size = int(scope["path"].strip("/") or 0)
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", str(size).encode())]})
    await send({"type": "http.response.body", "body": b"x" * size})
uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[1]), log_level="error")
"""


async def client(k: int, base: str, echo: str, numbers: list[int], end: float, seen: dict, statuses: Counter) -> None:
    number = numbers[k % len(numbers)]
    async with (
        httpx.AsyncClient(base_url=base, timeout=120) as http,
        httpx.AsyncClient(base_url=echo, timeout=120) as bare,
    ):

        async def timed(kind: str, method: str, path: str, **more):  # type: ignore[no-untyped-def]
            began = time.perf_counter()
            answer = await http.request(method, path, **more)
            seen[kind].append(time.perf_counter() - began)
            statuses[f"{kind} {answer.status_code}"] += 1
            if kind in PLAIN:
                began = time.perf_counter()
                await bare.get(f"/{len(answer.content)}")
                seen[f"echo of {kind}"].append(time.perf_counter() - began)
            return answer

        def step(name: str, params: dict) -> dict:
            return {"json": {"step": name, "params": params}}

        turn = 0
        while time.monotonic() < end:
            turn += 1
            api = f"/api/c/{number}"
            await timed("shelf", "GET", "/", headers={"accept": "text/html"})
            state = (await timed("state", "GET", api)).json()
            if "mesh" not in state:
                continue
            await timed("ledger", "GET", f"{api}/ledger")
            await timed("mesh", "GET", f"{api}/mesh/{state['mesh']}")
            await timed("weights", "GET", f"{api}/weights/forearm_L")
            await timed(
                "pose",
                "POST",
                f"{api}/pose",
                json={"values": {"hand_L": {"move y": 0.01 * (turn % 9)}}, "label": "Posed"},
            )
            await timed("rename", "POST", f"{api}/steps", **step("model.rename", {"name": f"Lutra {k} {turn % 7}"}))
            await timed("bend", "POST", f"{api}/steps", **step("joints.bend", {"joint": "forearm_L", "degrees": 8}))
            await timed(
                "free",
                "POST",
                f"{api}/steps",
                **step("joints.free", {"joint": "tail_3", "low": [-0.5] * 3, "high": [0.5] * 3}),
            )
            await timed("undo", "POST", f"{api}/undo", json={})


async def dragger(k: int, base: str, number: int, end: float, seen: dict) -> None:
    async with httpx.AsyncClient(base_url=base, timeout=120) as http:
        step = (await http.get(f"/api/c/{number}")).json()["position"]["step"]
    async with websockets.connect(f"ws{base[4:]}/live/{number}", max_size=None, ping_interval=None) as socket:
        n = 0
        while time.monotonic() < end:
            n += 1
            began = time.perf_counter()
            to = [0.5 + 0.05 * np.sin(n / 9 + k), 0.6, 0.05 * np.cos(n / 9)]
            await socket.send(
                json.dumps({"kind": "move", "seq": n, "step": step, "control": "hand_L", "to": to, "values": {}})
            )
            await socket.recv()
            seen["frame"].append(time.perf_counter() - began)
            await asyncio.sleep(0.05)


def memory(pid: int) -> tuple[float, int]:
    """Resident megabytes and open files of a process."""
    rows = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines() if ":" in line)
    return int(rows["VmRSS"].split()[0]) / 1024, len(list(Path(f"/proc/{pid}/fd").iterdir()))


async def watch(pid: int, end: float, rows: list) -> None:
    while time.monotonic() < end:
        rows.append(memory(pid))
        await asyncio.sleep(5)


async def run(server: Server, echo: str, numbers: list[int], seconds: float) -> None:
    seen: dict[str, list[float]] = defaultdict(list)
    statuses: Counter = Counter()
    rows: list[tuple[float, int]] = []
    end = time.monotonic() + seconds
    await asyncio.gather(
        *(client(k, server.base, echo, numbers, end, seen, statuses) for k in range(CLIENTS)),
        *(dragger(k, server.base, numbers[k], end, seen) for k in range(DRAGGERS)),
        watch(server.process.pid, end, rows),
    )
    print(f"{sum(statuses.values())} requests, {len(seen['frame'])} frames in {seconds:.0f} s")
    for kind, times in sorted(seen.items()):
        ms = np.percentile(np.array(times) * 1000, (50, 99))
        print(f"{kind:16} {len(times):6}  p50 {ms[0]:8.1f} ms  p99 {ms[1]:8.1f} ms")
    for kind in PLAIN:
        a, b = (np.percentile(seen[k], 99) for k in (kind, f"echo of {kind}"))
        print(f"p99 of {kind}: {a / b:.1f} times an echo's")
    bad = {k: n for k, n in statuses.items() if k.split()[-1].startswith("5")}
    print(f"refused: { {k: n for k, n in statuses.items() if not k.endswith('200')} }; 500s: {bad or 'none'}")
    third = max(len(rows) // 3, 1)
    print(
        f"memory: {np.mean([r[0] for r in rows[third : 2 * third]]):.0f} MB in the second third, {np.mean([r[0] for r in rows[-third:]]):.0f} MB in the last; files open {rows[third][1]} and {rows[-1][1]}"
    )


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 300.0
    with tempfile.TemporaryDirectory() as folder:
        shop = Workshop(Path(folder))
        first = shop.bring_in(READY, (DATA / READY).read_bytes())
        numbers = [first, *(shop.duplicate(first) for _ in range(CHARACTERS - 1))]
        size = (Path(folder) / "vonkel.db").stat().st_size
        server = Server(Path(folder))
        port = server.port + 1 if server.port < 65000 else server.port - 1
        bare = subprocess.Popen([sys.executable, "-c", ECHO, str(port)])
        time.sleep(2)
        try:
            asyncio.run(run(server, f"http://127.0.0.1:{port}", numbers, seconds))
        finally:
            server.kill()
            bare.kill()
        steps = sum(len(shop.store.ledger(n)) for n in numbers)
        print(
            f"store: {((Path(folder) / 'vonkel.db').stat().st_size - size) / 1024:.0f} kB more, {steps} steps on the lines"
        )


if __name__ == "__main__":
    main()
