"""`python -m pinecart.standins FILE`: run one stand-in, as the JSON file says, until standard input
ends.

The file: {"port": 8751, "folder": "…", "accounts": {"KEYID": {"secret": "…", "may_write": true}}}
of an object store, or {"kind": "file-system", "folder": "…", "ports": [8754, 8755]}.
"""

from __future__ import annotations

import asyncio
import json
import os
import signal
import sys
import threading
from pathlib import Path

from pinecart.standins.bucket_behaviour import Account
from pinecart.standins.bucket_server import BucketServer, serve
from pinecart.standins.bucket_shelf import Shelf
from pinecart.standins.file_system import FileSystem


async def main() -> None:
    told = json.loads(Path(sys.argv[1]).read_text())
    if told.get("kind") == "file-system":
        first, second = told["ports"]
        with FileSystem(Path(told["folder"]), ports=(first, second)):
            await _ended()
        return
    accounts = {key: Account(**account) for key, account in told["accounts"].items()}
    folder = told["folder"]
    shelf = Shelf(Path(folder) if folder else None)
    server = BucketServer(accounts, shelf)
    runner, _ = await serve(server, told["port"])
    await _ended()
    await runner.cleanup()


async def _ended() -> None:
    """That somebody wants it, or that nobody is there any more."""
    stop = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stop.set)
    threading.Thread(target=_wait_for_end, args=(loop, stop), daemon=True).start()
    await stop.wait()


def _wait_for_end(loop: asyncio.AbstractEventLoop, stop: asyncio.Event) -> None:
    while os.read(0, 4096):
        pass
    loop.call_soon_threadsafe(stop.set)


if __name__ == "__main__":
    asyncio.run(main())
