"""Round trip of a drag as a page has it: value sent, points applied, in a browser, against an echo over the same server."""

import json
import multiprocessing
import socket
import tempfile
import time
from pathlib import Path

import uvicorn
from common import MOVED, SHAPES, many_shapes, rigged
from fastapi import WebSocket
from live_loop import dragged, played
from playwright.sync_api import sync_playwright

from vonkel.core.warm import warm
from vonkel.web.app import Settings, create_app
from vonkel.web.payload import frame_bytes
from vonkel.workshop import Workshop
from vonkel.workshop.live import Session
from vonkel.workshop.messages import message_of

PORT = 8766
ROUNDS, TRIPS = 7, 80

TRIP = """
async ([path, messages]) => {
  const { frameFrom, patched } = await import("/static/js/net/frame.js");
  const socket = new WebSocket(`ws://${location.host}${path}`);
  socket.binaryType = "arraybuffer";
  await new Promise((done) => (socket.onopen = done));
  let points = null, knows = 0, applied = null;
  socket.onmessage = (event) => {
    const { sequence, said, blocks } = frameFrom(event.data);
    points = said.ranges ? patched(points, said.ranges, blocks.points) : blocks.points;
    knows = sequence;
    applied();
  };
  const times = [];
  for (const [i, message] of messages.entries()) {
    const start = performance.now();
    await new Promise((done) => {
      applied = done;
      socket.send(JSON.stringify({ ...message, seq: i + 1, knows }));
    });
    times.push(performance.now() - start);
  }
  socket.close();
  return times.slice(10);
}
"""


def serve(folder: str, number: int, first: str) -> None:
    """The app, and beside it a socket that answers each message with one and the same whole frame."""
    warm()
    app = create_app(Settings(Path(folder)))
    session = Session(app.state.workshop, number)
    body = frame_bytes(session.answer(message_of(json.loads(first))))

    @app.websocket("/echo")
    async def echo(connection: WebSocket) -> None:
        await connection.accept()
        try:
            while True:
                await connection.receive_text()
                await connection.send_bytes(body)
        except Exception:
            pass

    uvicorn.run(app, port=PORT, ws="wsproto", ws_per_message_deflate=False, log_level="error")


def waited(port: int) -> None:
    while True:
        try:
            socket.create_connection(("127.0.0.1", port)).close()
            return
        except OSError:
            time.sleep(0.2)


def middle(times: list[float]) -> float:
    """Mean of the middle half: a page's clock counts in tenths."""
    times = sorted(times)
    n = len(times) // 4
    return sum(times[n : len(times) - n]) / (len(times) - 2 * n)


def compare(page, character, wish_of) -> None:
    with tempfile.TemporaryDirectory() as folder:
        workshop = Workshop(Path(folder))
        number = workshop.add(character, {}, "made for the benchmark")
        step = workshop.store.position(number).step
        del workshop
        wishes = [{"step": step, **wish_of(i)} for i in range(TRIPS)]
        server = multiprocessing.get_context("spawn").Process(
            target=serve, args=(folder, number, json.dumps(wishes[0]))
        )
        server.start()
        try:
            waited(PORT)
            page.goto(f"http://127.0.0.1:{PORT}/")
            page.evaluate(TRIP, [f"/live/{number}", wishes])  # compiled, cached, opened
            rounds = [
                [middle(page.evaluate(TRIP, [path, wishes])) for path in ("/echo", f"/live/{number}")]
                for _ in range(ROUNDS)
            ]
        finally:
            server.terminate()
            server.join()
    shares = sorted(live / echo for echo, live in rounds)
    echo, live = (min(r[k] for r in rounds) for k in (0, 1))
    print(
        f"  echo {echo:.2f} ms, live {live:.2f} ms: {live / echo:.2f}x; rounds {shares[0]:.2f}x to {shares[-1]:.2f}x, middle {shares[len(shares) // 2]:.2f}x"
    )


if __name__ == "__main__":
    with sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
        page = browser.new_page()
        for fine in (False, True):
            character = rigged(fine)
            print(f"a hand led round, {len(character.points):,} points")
            compare(page, character, dragged)
        print(f"{SHAPES} shapes of {MOVED:,} points each, all moving")
        compare(page, many_shapes(rigged()), played)
        browser.close()
