"""The stand-in object store on a loopback port, run by its own thread, for the length
of a `with`.
"""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import Iterator

from aiohttp import web

from pinecart.standins.bucket_behaviour import Account
from pinecart.standins.bucket_server import BucketServer, serve

KEY, SECRET = "LARKFELLKEY", "a-made-up-secret"


class Busiest(BucketServer):
    """A store that remembers how many requests were ever with it at once."""

    inside = most = 0

    async def handle(self, request: web.BaseRequest) -> web.StreamResponse:
        self.inside += 1
        self.most = max(self.most, self.inside)
        try:
            return await super().handle(request)
        finally:
            self.inside -= 1


@contextlib.contextmanager
def running(
    *buckets: str, server: BucketServer | None = None
) -> Iterator[tuple[BucketServer, str]]:
    """Yield the server and its endpoint."""
    server = server or BucketServer(
        {KEY: Account(SECRET), "READER": Account("reader-secret", may_write=False)}
    )
    for bucket in buckets:
        server.shelf.make(bucket)
    loop, ready, address = asyncio.new_event_loop(), threading.Event(), []

    async def start() -> None:
        runner, port = await serve(server)
        address.append((runner, port))
        ready.set()

    def run() -> None:
        loop.create_task(start())
        loop.run_forever()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    assert ready.wait(60)
    try:
        yield server, f"http://127.0.0.1:{address[0][1]}"
    finally:
        asyncio.run_coroutine_threadsafe(address[0][0].cleanup(), loop).result(10)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(10)
