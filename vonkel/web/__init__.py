"""The web face: pages, a JSON interface and the live socket.  No rules of the job live here."""
