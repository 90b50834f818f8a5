"""What our processes have in common: a child's life ends with its parent's, which holds the other
end of its standard input.
"""

from __future__ import annotations

import asyncio
import gc
import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor


def end_with_parent(told: Callable[[bytes], object] = lambda line: None) -> None:
    """Watch standard input in a thread; its end is the parent's end, whatever ended it.

    told: called with each line.
    """

    def watch() -> None:
        rest = b""
        while chunk := os.read(0, 1 << 16):
            text = rest + chunk
            *lines, rest = text.split(b"\n")
            for line in lines:
                told(line)
        os._exit(3)

    threading.Thread(target=watch, daemon=True, name="parent").start()


def settle_in() -> None:
    """For a process that carries files: threads enough for them; and it makes many small things and
    few that hold each other, so that looking for those a tenth as often is enough.
    """
    asyncio.get_running_loop().set_default_executor(ThreadPoolExecutor(32))
    gc.freeze()
    gc.set_threshold(10_000, 20, 50)
