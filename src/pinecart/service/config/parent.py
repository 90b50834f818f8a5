"""A child's life ends with its parent's: the parent holds the other end of our standard input."""

from __future__ import annotations

import os
import threading


def end_with_parent() -> None:
    """Watch standard input in a thread; its end is the parent's end, whatever ended it."""

    def watch() -> None:
        while os.read(0, 4096):
            pass
        os._exit(3)

    threading.Thread(target=watch, daemon=True, name="parent").start()
