"""Round trip of a drag, evaluation and deforming, as ratios against references in the same run."""

import asyncio
import json
import tempfile
import threading
import time
from pathlib import Path

import numpy as np
import uvicorn
import websockets
from common import MOVED, SHAPES, best, many_shapes, rigged
from fastapi import WebSocket

from vonkel.core.rig import compile_rig
from vonkel.core.skin import Deformer
from vonkel.web.app import Settings, create_app


def kernels(c):
    program, deformer = compile_rig(c), Deformer(c)
    inputs = {"hand_L": {"move y": 0.2}, "body": {"turn y": 0.2, "move y": -0.05}, "chest turn": {"turn x": 0.2}}
    pose = program.evaluate(inputs)
    source, target = deformer.rest.copy(), deformer.rest.copy()
    m = pose.skin_matrices(deformer.rest_inverse)
    flat = np.ascontiguousarray(m.reshape(-1, 12), np.float32)
    from vonkel.core.skin import kernels as k
    from vonkel.core.skin.reference import dual_quaternions

    q = dual_quaternions(m).astype(np.float32)
    out = np.empty_like(source)
    copy = best(lambda: np.copyto(target, source))
    linear = best(lambda: k.linear4(source, deformer.joints, deformer.weights, flat, out))
    dual = best(lambda: k.dual(source, deformer.joints, deformer.weights, q, out))
    evaluate = best(lambda: program.evaluate(inputs))
    print(
        f"  {len(source):,} points, {len(c.joints)} joints, {len(c.controls)} controls, {len(program.operations)} operations"
    )
    print(
        f"  evaluation {evaluate * 1e3:.2f} ms; copy {copy * 1e3:.3f} ms; linear {linear / copy:.1f}x copy; dual {dual / linear:.2f}x linear"
    )
    try:
        import igl

        weights = np.zeros((len(source), len(c.joints)))
        np.add.at(weights, (np.arange(len(source))[:, None], deformer.joints), deformer.weights)
        lbs = igl.lbs_matrix(source.astype(float), weights)
        stacked = np.ascontiguousarray(m.transpose(0, 2, 1).reshape(-1, 3))
        other = best(lambda: lbs @ stacked, 3, 5)
        print(f"  libigl's matrix product {other / linear:.0f}x ours")
    except ImportError:
        pass


async def trips(url, messages, count=200):
    times = []
    async with websockets.connect(url, max_size=None, compression=None) as socket:
        for i in range(count + 20):
            start = time.perf_counter()
            await socket.send(messages(i))
            await socket.recv()
            if i >= 20:
                times.append(time.perf_counter() - start)
    return np.percentile(times, [50, 95]) * 1e3


def round_trip(c, wish_of):
    with tempfile.TemporaryDirectory() as folder:
        app = create_app(Settings(Path(folder)))
        number = app.state.workshop.add(c, {}, "made for the benchmark")
        step = app.state.workshop.store.position(number).step

        @app.websocket("/echo/{size}")
        async def echo(socket: WebSocket, size: int):
            await socket.accept()
            body = bytes(size)
            try:
                while True:
                    await socket.receive_text()
                    await socket.send_bytes(body)
            except Exception:
                pass

        server = uvicorn.Server(
            uvicorn.Config(app, port=8765, ws="wsproto", ws_per_message_deflate=False, log_level="warning")
        )
        threading.Thread(target=server.run, daemon=True).start()
        while not server.started:
            time.sleep(0.05)

        def drag(i, knows=0):
            return json.dumps({"seq": i + 1, "step": step, "knows": knows, **wish_of(i)})

        size = 12 * len(c.points) + 48 * (len(c.joints) + len(c.controls)) + 160
        a = asyncio.run(trips(f"ws://127.0.0.1:8765/echo/{size}", drag))
        b = asyncio.run(trips(f"ws://127.0.0.1:8765/live/{number}", drag))
        a2 = asyncio.run(trips(f"ws://127.0.0.1:8765/echo/{size}", drag))
        echo_p50 = min(a[0], a2[0])
        moved = asyncio.run(trips(f"ws://127.0.0.1:8765/live/{number}", lambda i: drag(i, i)))
        print(
            f"  only what moved, as a page asks: p50 {moved[0]:.2f} ms, p95 {moved[1]:.2f} ms: {moved[0] / echo_p50:.2f}x"
        )
        print(f"  round trip p50 {b[0]:.2f} ms, p95 {b[1]:.2f} ms; echo p50 {echo_p50:.2f} ms: {b[0] / echo_p50:.2f}x")
        server.should_exit = True
        time.sleep(0.5)


def dragged(i):
    """A hand led round."""
    to = [0.4 + 0.1 * np.sin(i / 9), 0.5, 0.1 + 0.1 * np.cos(i / 9)]
    return {"kind": "move", "control": "hand_L", "to": to, "values": {}}


def played(i):
    """Every shape of a face at another strength."""
    strengths = {f"s{k}": round(0.5 + 0.5 * float(np.sin(i / 7 + k)), 3) for k in range(SHAPES)}
    return {"kind": "pose", "values": {"shapes": strengths}}


if __name__ == "__main__":
    for fine in (False, True):
        character = rigged(fine)
        print(character.name, "fine" if fine else "as shipped")
        kernels(character)
        round_trip(character, dragged)
    print(f"{SHAPES} shapes of {MOVED:,} points each, all moving")
    round_trip(many_shapes(rigged()), played)
