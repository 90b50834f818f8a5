"""Long answers, some 64 KiB at a time."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator

from asgiref.sync import sync_to_async

PIECE_BYTES = 1 << 16


async def streamed(found: Iterator[bytes]) -> AsyncIterator[bytes]:
    """Each piece is worked out in a thread while the caller takes the last."""
    next_piece = sync_to_async(_joined, thread_sensitive=False)
    while piece := await next_piece(found):
        yield piece


def _joined(found: Iterator[bytes]) -> bytes:
    pieces = list[bytes]()
    length = 0
    for piece in found:
        pieces.append(piece)
        length += len(piece)
        if length >= PIECE_BYTES:
            break
    return b"".join(pieces)
