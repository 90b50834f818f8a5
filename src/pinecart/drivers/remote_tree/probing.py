"""What a remote tree can do, found out by small files of our own, which are taken away again."""

from __future__ import annotations

import contextlib
import secrets

from pinecart.core.errors import Busy, Halting, Missing, StoreError, Taken
from pinecart.core.folding import TELLING, Folding, other_spellings
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.remote_tree.facts import TreeFacts
from pinecart.drivers.remote_tree.remote_files import FileKind, Given, RemoteFiles

ODD_NS = 1_599_999_999_987_654_321  # what a coarser clock can't keep
COARSEST_NS = 2_000_000_000


class TreeProber:
    """Asks once."""

    def __init__(self, files: RemoteFiles, retries: BusyRetries) -> None:
        self._files, self._retries = files, retries

    async def find_out(self, path: bytes) -> TreeFacts:
        """In this folder, or the nearest one above that is there. What can't be found out, since
        nothing may be written, is taken as it mostly is.
        """
        while path and await self._is_missing(path):
            path = path.rpartition(b"/")[0]
        mark = f".pinecart-probe-{secrets.token_hex(8)}".encode()
        one, other = (_in(path, mark + b"-" + end) for end in (TELLING.encode(), b"2"))
        try:
            return await self._retries.safely(lambda: self._asked(path, one, other))
        except (Busy, Halting):
            raise
        except StoreError:
            return TreeFacts()
        finally:
            for name in (one, other):
                with contextlib.suppress(StoreError):
                    await self._files.remove(name)

    async def _is_missing(self, path: bytes) -> bool:
        try:
            await self._retries.safely(lambda: self._files.look(path))
        except Missing:
            return True
        return False

    async def _asked(self, path: bytes, one: bytes, other: bytes) -> TreeFacts:
        for name in (one, other):  # a try whose answer was lost may have made it
            with contextlib.suppress(Missing):
                await self._files.remove(name)
            await self._files.write_whole(name, b"Pine Cart", Given(ODD_NS), read_back=False)
        told = (await self._files.look(one)).modified_ns
        lost_ns = COARSEST_NS if told is None else abs(ODD_NS - told)
        keeps_times = lost_ns < COARSEST_NS
        step_ns = lost_ns + 1 if keeps_times and lost_ns else 0
        folding = await self._folding(path, one)
        guards = await self._guards(one, other)
        return TreeFacts(folding, _rounded(step_ns), keeps_times, guards, probed=True)

    async def _folding(self, path: bytes, one: bytes) -> Folding:
        name = one.rpartition(b"/")[2]
        names = {listed.name for listed in await self._files.names(path)}
        told = {}
        for rule, spellings in other_spellings(name).items():
            told[rule] = any([await self._answers(_in(path, s), names) for s in spellings])
        return Folding(**told)

    async def _answers(self, other: bytes, names: set[bytes]) -> bool:
        """Whether a name is answered that no listing shows."""
        try:
            found = await self._files.look(other)
        except (Busy, Halting):
            raise
        except StoreError:
            return False
        return found.kind is FileKind.FILE and other.rpartition(b"/")[2] not in names

    async def _guards(self, one: bytes, other: bytes) -> bool:
        """Whether a rename over what is there is refused by the server itself."""
        try:
            await self._files.rename(other, one)
        except Taken:
            return True
        return False


def _rounded(step_ns: int) -> int:
    """A clock's step: of what it lost once, the next power of ten."""
    step = 1
    while step < step_ns:
        step *= 10
    return step if step_ns else 0


def _in(path: bytes, name: bytes) -> bytes:
    return path + b"/" + name if path else name
