"""How a file goes from a remote tree, or gets another name: exactly this one, looked at just
before.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Collection
from functools import partial

from pinecart.core.entries import Entry, same
from pinecart.core.errors import Missing, Refused, StoreError, Taken
from pinecart.drivers.file_names import joined, must_be_safe, parts_of, why_unsafe
from pinecart.drivers.remote_tree.facts import entry_of
from pinecart.drivers.remote_tree.remote_files import FileKind, FileLook, Given
from pinecart.drivers.remote_tree.tree import Tree

PROBE = b"Pine Cart"
PASSED_S = 1.1  # after it a new time is another one: many servers tell whole seconds


class TreeRemover:
    def __init__(self, tree: Tree) -> None:
        """Whether the server keeps times as a file is renamed is found out with the first."""
        self._files = tree.files
        self._folders = tree.folders
        self._reader = tree.reader
        self._names = tree.names
        self._retries = tree.retries
        self._renames = tree.renames
        self._retimes: bool | None = None
        self._one_at_a_time = asyncio.Lock()

    async def is_absent(self, key: bytes) -> bool:
        path = key.rstrip(b"/")
        await self._retries.safely(lambda: self._files.look(b""))  # the root itself is there
        if why_unsafe(path, self._files.name):
            return True  # no file of a folder has such a name
        try:
            await self._folders.enter(path.rpartition(b"/")[0])
            found = await self._retries.safely(lambda: self._files.look(path))
        except Missing:
            return True
        return (found.kind is FileKind.FOLDER) != key.endswith(b"/")  # a folder is no file

    async def remove(self, key: bytes, expected: Entry) -> bool:
        if key.endswith(b"/"):
            with contextlib.suppress(Missing, Refused):  # no longer empty: then it stays
                await self._remove_folder(key.rstrip(b"/"))
            return False
        seen = self._renames.firm(await self._exactly(key, expected))
        if seen is None and self._files.removes_below:  # it may have become a folder meanwhile
            away = self._names.beside(key)
            await self.move(key, away, expected)
            await self._remove(away, None)
            self._names.over(away)
            return False
        await self._remove(key, seen)
        return seen is not None

    async def _remove(self, path: bytes, seen: FileLook | None) -> None:
        tried = int(self._files.repeats)

        async def once() -> None:
            nonlocal tried
            tried += 1
            try:
                await self._files.remove(path, seen)
            except Missing:
                if tried == 1:
                    raise  # else it went by the try whose answer was lost

        await self._retries.safely(once)

    async def _remove_folder(self, path: bytes) -> None:
        """Raises Refused where it is not empty."""
        if self._files.removes_below:
            await self._remove_emptied(path)
        else:
            await self._retries.safely(lambda: self._files.remove_folder(path))
        self._folders.forget(path)

    async def _remove_emptied(self, path: bytes) -> None:
        """Under a hidden name first, where nobody puts anything into it: then it is looked at."""
        await self._must_be_empty(path)
        away = self._names.beside(path)
        await self._renames.if_absent(path, away, 0)
        try:
            await self._must_be_empty(away)
        except Refused:
            await self._renames.if_absent(away, path, 0)
            raise
        await self._retries.safely(lambda: self._files.remove_folder(away))
        self._names.over(away)

    async def _must_be_empty(self, path: bytes) -> None:
        if await self._retries.safely(lambda: self._files.names(path)):
            raise Refused(f"{self._reader.named(path)} is not empty.", code="store.not-empty")

    async def _exactly(self, key: bytes, expected: Entry) -> FileLook:
        """Raises Missing, Taken."""
        must_be_safe(key, self._files.name)
        await self._folders.enter(key.rpartition(b"/")[0])
        return await self._reader.must_be_as(key, expected)

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry:
        """A rename, looked at again afterwards, and put back if it was another file after all."""
        if key.endswith(b"/"):  # there is nothing to keep of a folder
            await self.remove(key, expected)
            return expected
        must_be_safe(to, self._files.name)
        await self._exactly(key, expected)
        folder = to.rpartition(b"/")[0]
        await self._folders.enter(folder, create=True)
        await self._renames.if_absent(key, to, expected.size)
        found = await self._retries.safely(partial(self._files.look, to))
        moved = entry_of(to, found, links="keep")
        is_it = False
        try:
            is_it = same(_without_etag(moved), _without_etag(expected)) or (
                moved.size == expected.size and await self._renames_retime(key, to)
            )
        finally:
            if not is_it:
                await self._renames.if_absent(to, key, moved.size)
        if not is_it:
            named = self._reader.named(key)
            raise Taken(f"{named} changed while it was moved, and was put back.")
        return moved

    async def _renames_retime(self, key: bytes, to: bytes) -> bool:
        """Whether what is renamed from one folder to another gets a new time, as where a server
        copies and deletes: then its time says nothing. Asked once, by a small file of ours.
        """
        async with self._one_at_a_time:
            if self._retimes is None:
                here = self._names.beside(key)
                there = self._names.beside(to)
                try:
                    self._retimes = await self._gets_a_new_time(here, there)
                finally:
                    for path in (here, there):
                        with contextlib.suppress(StoreError):
                            await self._files.remove(path)
                        self._names.over(path)
        return self._retimes

    async def _gets_a_new_time(self, here: bytes, there: bytes) -> bool:
        files = self._files
        await files.write_whole(here, PROBE, Given(), read_back=False)
        before = await self._retries.safely(partial(files.look, here))
        await asyncio.sleep(PASSED_S)
        await self._renames.if_absent(here, there, len(PROBE))
        after = await self._retries.safely(partial(files.look, there))
        return after.modified_ns != before.modified_ns

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        least = len(parts_of(prefix))
        parts = key.split(b"/")[:-1]
        while len(parts) > least:
            path = b"/".join(parts)
            try:
                await self._remove_folder(path)
            except StoreError:  # not empty, or gone already
                return
            parts.pop()

    async def sweep(self, prefixes: Collection[bytes]) -> None:
        for prefix in prefixes:
            with contextlib.suppress(StoreError):
                await self._sweep_one(b"/".join(parts_of(prefix)))

    async def _sweep_one(self, path: bytes) -> None:
        """Unfinished files of this very run, left by a process of it that is no more, in this
        folder alone. Whoever took one away before did the same work.
        """
        files = self._files
        listed = await self._retries.safely(partial(files.names, path))
        for name, _ in listed:
            if not self._names.is_left(name):
                continue
            full = joined(path, name)
            with contextlib.suppress(Missing):
                await files.remove(full)


def _without_etag(entry: Entry) -> Entry:
    """Some servers make it of the name, among others."""
    return entry._replace(etag="")
