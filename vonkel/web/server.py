"""Starting the pages on this machine."""

from __future__ import annotations

import ipaddress
import threading
from pathlib import Path

import uvicorn

from ..core.errors import BadParameters
from .app import Settings, create_app


def serve(store: Path, host: str, port: int, demo: bool) -> None:
    """Serve until stopped.  Raises BadParameters for an address other machines could reach."""
    local = host == "localhost" or (_is_address(host) and ipaddress.ip_address(host).is_loopback)
    if not local:
        raise BadParameters(f"{host} can be reached from other machines.", "--host", "Use 127.0.0.1.")
    app = create_app(Settings(store, demo))
    threading.Thread(target=_warm, daemon=True).start()
    print(f"Vonkel is ready at http://{host}:{port}", flush=True)
    uvicorn.run(
        app, host=host, port=port, ws="wsproto", ws_per_message_deflate=False, ws_max_size=1 << 20, log_level="warning",
        timeout_graceful_shutdown=2,
    )  # fmt: skip


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


def _warm() -> None:
    """Load the compiled loops in the background, so that the first drag doesn't wait for them."""
    from ..core.warm import warm

    warm()
