"""CRC-64/NVME: the checksum that is always known. Parts of one object are combined without reading
them again.

Parameters: polynomial 0xad93d23594c93659, reflected, all ones in and out (NVM Express NVM Command
Set 1.0, 5.2.1.3.4). The text form is base64 of eight bytes, big-endian, as S3's
`x-amz-checksum-crc64nvme` carries it.
"""

from __future__ import annotations

import base64

from awscrt import checksums

EMPTY = "AAAAAAAAAAA="


class Crc64:
    """A running checksum. `add` bytes in order; `text` at any time."""

    __slots__ = ("_value", "size")

    def __init__(self) -> None:
        self._value = 0
        self.size = 0

    def add(self, chunk: bytes | memoryview) -> None:
        self._value = checksums.crc64nvme(chunk, self._value)
        self.size += len(chunk)

    @property
    def text(self) -> str:
        return base64.b64encode(self._value.to_bytes(8, "big")).decode()


def crc_of(data: bytes) -> str:
    return base64.b64encode(checksums.crc64nvme(data).to_bytes(8, "big")).decode()


def _number(text: str) -> int:
    told = base64.b64decode(text)
    return int.from_bytes(told, "big")


def combine(first: str, second: str, second_size: int) -> str:
    """The checksum of two pieces put together, from the checksums of each."""
    a = _number(first)
    b = _number(second)
    together = checksums.combine_crc64nvme(a, b, second_size)
    told = together.to_bytes(8, "big")
    return base64.b64encode(told).decode()
