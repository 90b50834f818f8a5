"""Servers of the tests' own, in a thread of the process that asks them."""

from __future__ import annotations

import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any, Self


class SmallServer:
    handler: type[BaseHTTPRequestHandler]

    def __enter__(self) -> Self:
        handler = type("Handler", (self.handler,), {"storage": self})
        self._server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._server.server_close()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self._server.server_address[1]}"


class SmallHandler(BaseHTTPRequestHandler):
    storage: Any
    protocol_version = "HTTP/1.1"

    def log_message(self, *_: object) -> None: ...

    def all_of_it(self) -> bytes:
        return self.rfile.read(int(self.headers.get("Content-Length") or 0))

    def answer(self, status: int, headers: dict[str, str], body: bytes) -> None:
        self.send_response(status)
        length = headers.pop("Content-Length", str(len(body)))
        for name, value in {**headers, "Content-Length": length}.items():
            self.send_header(name, value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)
