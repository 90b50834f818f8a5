"""A line to a server on loopback that can be cut, and be away, while the server itself lives on."""

from __future__ import annotations

import contextlib
import socket
import threading


class Forwarder:
    """Listens at `port`, and hands on to `to`.   says: instead of handing on; empty: nothing.
    garbles: what of a request arrives as something else, of equal length.
    """

    says = b""
    garbles: tuple[bytes, bytes] = (b"", b"")

    def __init__(self, port: int, to: int) -> None:
        self.port, self.to = port, to
        self._open = set[socket.socket]()

    def begin(self) -> None:
        self._door = socket.create_server(("127.0.0.1", self.port), backlog=256)
        threading.Thread(target=self._accept, args=(self._door,), daemon=True).start()

    def end(self) -> None:
        """All lines are cut, and nobody answers from then on."""
        for line in [self._door, *self._open]:
            with contextlib.suppress(OSError):
                line.shutdown(socket.SHUT_RDWR)
            line.close()
        self._open.clear()

    def _accept(self, door: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while True:
                near, _ = door.accept()
                if self.says:
                    threading.Thread(target=self._refuse, args=(near,), daemon=True).start()
                    continue
                far = socket.create_connection(("127.0.0.1", self.to))
                self._open |= {near, far}
                for way in ((near, far, self.garbles), (far, near)):
                    threading.Thread(target=self._pump, args=way, daemon=True).start()

    def _refuse(self, near: socket.socket) -> None:
        with contextlib.suppress(OSError), near:
            while near.recv(1 << 16):
                near.sendall(self.says)

    def _pump(
        self,
        source: socket.socket,
        target: socket.socket,
        garbles: tuple[bytes, bytes] = (b"", b""),
    ) -> None:
        with contextlib.suppress(OSError):
            while piece := source.recv(1 << 18):
                target.sendall(piece.replace(*garbles) if garbles[0] else piece)
        for line in (source, target):
            with contextlib.suppress(OSError):
                line.shutdown(socket.SHUT_RDWR)
            line.close()
            self._open.discard(line)
