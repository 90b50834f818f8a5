"""What a remote tree can do, found out by small files of our own, which are taken away again."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
from collections.abc import Awaitable

from pinecart.core.errors import Busy, Halting, Missing, StoreError, Taken
from pinecart.core.folding import TELLING, Folding, other_spellings
from pinecart.drivers.busy_retries import BusyRetries
from pinecart.drivers.file_names import joined
from pinecart.drivers.remote_tree.facts import TreeFacts
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook, Given, RemoteFiles

FAULT = 500
ODD_NS = 1_599_999_999_987_654_321  # what a coarser clock can't keep
COARSEST_NS = 2_000_000_000
FIRM_S, LOOK_S = 3.0, 0.3  # an ETag of a file that was just changed is a weak one at many servers
SIGNS = {"?#;": b"?a#b;c", "%": b"%3fa"}  # → the end of a name that has them
NEVER = FileLook(FileKind.FILE, etag="pinecart-never", is_firm=True)


class TreeProber:
    """Asks once."""

    def __init__(self, files: RemoteFiles, retries: BusyRetries) -> None:
        self._files = files
        self._retries = retries

    async def find_out(self, path: bytes) -> TreeFacts:
        """In this folder, or the nearest one above that is there. What can't be found out, since
        nothing may be written, is taken as it mostly is.
        """
        while path and await self._is_missing(path):
            path = path.rpartition(b"/")[0]
        mark = f".pinecart-probe-{secrets.token_hex(8)}".encode()
        ends = (TELLING.encode(), b"2", b"3")
        one, other, third = (joined(path, mark + b"-" + end) for end in ends)
        try:
            return await self._retries.safely(lambda: self._asked(path, one, other, third))
        except (Busy, Halting):
            raise
        except StoreError:
            return TreeFacts()
        finally:
            for name in (one, other, third):
                with contextlib.suppress(StoreError):
                    await self._files.remove(name)

    async def _is_missing(self, path: bytes) -> bool:
        try:
            await self._retries.safely(lambda: self._files.look(path))
        except Missing:
            return True
        return False

    async def _asked(self, path: bytes, one: bytes, other: bytes, third: bytes) -> TreeFacts:
        await self._make(one)
        found = await self._files.look(one)
        told = found.modified_ns
        lost_ns = COARSEST_NS if told is None else abs(ODD_NS - told)
        keeps_times = lost_ns < COARSEST_NS
        step_ns = lost_ns + 1 if keeps_times and lost_ns else 0
        folding = await self._folding(path, one)
        guards = await self._guards(one, other)
        keeps_etags = conditions = False
        if found.etag:
            keeps_etags = await self._keeps_etags(other, third)
            conditions = await self._bears_conditions(one, other, third)
        if self._files.by_address:
            unheld = await self._unheld(other, third)
        else:
            unheld = ""
        return TreeFacts(
            folding,
            _rounded(step_ns),
            keeps_times,
            guards,
            conditions,
            keeps_etags,
            unheld,
            probed=True,
        )

    async def _make(self, name: bytes) -> None:
        """A try whose answer was lost may have made it."""
        with contextlib.suppress(Missing):
            await self._files.remove(name)
        await self._files.write_whole(name, b"Pine Cart", Given(ODD_NS), read_back=False)

    async def _folding(self, path: bytes, one: bytes) -> Folding:
        """Under which other spellings a file of ours is found."""
        name = one.rpartition(b"/")[2]
        listed = await self._files.names(path)
        names = {named.name for named in listed}
        told = {}
        for rule, spellings in other_spellings(name).items():
            found = []
            for spelling in spellings:
                other = joined(path, spelling)
                found.append(await self._answers(other, names))
            told[rule] = any(found)
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
        await self._make(other)
        return await self._refuses(self._files.rename(other, one))

    async def _keeps_etags(self, other: bytes, third: bytes) -> bool:
        """Whether a renamed file has the ETag that it had."""
        await self._make(other)
        before = await self._files.look(other)
        with contextlib.suppress(Missing):
            await self._files.remove(third)
        await self._files.rename(other, third)
        return (await self._files.look(third)).etag == before.etag

    async def _unheld(self, other: bytes, third: bytes) -> str:
        """Signs at which a new name is taken apart, as a server does that decodes an address first:
        the file would get another name, and might replace what has that.
        """
        found = ""
        for signs, end in SIGNS.items():
            if not await self._is_held(other, third, third + end):
                found += signs
        return found

    async def _is_held(self, other: bytes, third: bytes, odd: bytes) -> bool:
        """third: what such a server may make of `odd`."""
        await self._make(other)
        for name in (third, odd):
            with contextlib.suppress(Missing):
                await self._files.remove(name)
        is_held = False
        try:
            await self._files.rename(other, odd)
            await self._files.look(odd)
            is_held = True
        except (Busy, Halting):
            raise
        except StoreError:
            pass
        finally:
            # a server that decodes an address twice has it, and finds it by another name
            for name in [odd] if is_held else [odd, odd.replace(b"%", b"%25")]:
                with contextlib.suppress(StoreError):
                    await self._files.remove(name)
        return is_held

    async def _bears_conditions(self, one: bytes, other: bytes, away: bytes) -> bool:
        """Some servers break at a condition that isn't met: it is better not to ask for any."""
        for _ in range(2):  # any fault may be a passing one
            try:
                return await self._conditions(one, other, away)
            except Busy as exc:
                if exc.facts.get("status") != FAULT:
                    raise
        return False

    async def _conditions(self, one: bytes, other: bytes, away: bytes) -> bool:
        """Whether another ETag than the one that is there is refused, and the right one taken."""
        files = self._files
        await self._make(one)
        await self._make(other)
        with contextlib.suppress(Missing):
            await files.remove(away)
        if not await self._refuses(files.replace(other, one, away, NEVER)):
            return False
        if not await self._refuses(files.remove(one, NEVER)):
            return False
        seen = await self._firm(one)
        if seen is None or await self._refuses(files.replace(other, one, away, seen)):
            return False
        seen = await self._firm(one)
        if seen is None:
            return False
        return not await self._refuses(files.remove(one, seen))

    async def _firm(self, name: bytes) -> FileLook | None:
        """As soon as its ETag is one to rely on; None: it doesn't become so in a while."""
        for _ in range(round(FIRM_S / LOOK_S)):
            seen = await self._files.look(name)
            if seen.is_firm:
                return seen
            await asyncio.sleep(LOOK_S)
        return None

    async def _refuses(self, call: Awaitable[object]) -> bool:
        try:
            await call
        except Taken:
            return True
        return False


def _rounded(step_ns: int) -> int:
    """A clock's step: of what it lost once, the next power of ten."""
    step = 1
    while step < step_ns:
        step *= 10
    if step_ns:
        return step
    return 0
