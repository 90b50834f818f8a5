"""Single keys, heard while something else is watched. Only where both ends are a terminal."""

from __future__ import annotations

import contextlib
import select
import sys
from collections.abc import Iterator


class KeyPresses:
    """are_heard: whether there is somebody who could press one."""

    def __init__(self, *, are_heard: bool) -> None:
        self.are_heard = are_heard

    def was_pressed(self, key: str) -> bool:
        """Whether it is among those pressed since last asked; the others are forgotten."""
        pressed = ""
        while self.are_heard and select.select([sys.stdin], [], [], 0)[0]:
            one = sys.stdin.read(1)
            if not one:
                break
            pressed += one
        return key in pressed


@contextlib.contextmanager
def single_keys() -> Iterator[KeyPresses]:
    """The terminal gives each key at once and shows none, as long as this. Ctrl-C stays what it
    is.
    """
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        yield KeyPresses(are_heard=False)
        return
    import termios
    import tty

    terminal = sys.stdin.fileno()
    before = termios.tcgetattr(terminal)
    try:
        tty.setcbreak(terminal)
        yield KeyPresses(are_heard=True)
    finally:
        termios.tcsetattr(terminal, termios.TCSADRAIN, before)
