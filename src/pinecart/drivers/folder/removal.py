"""How a file goes from a folder, or gets another name: exactly this one, looked at just before."""

from __future__ import annotations

import contextlib
import os
import stat as st
from collections.abc import Collection

from pinecart.core.entries import Entry, Likeness, fingerprint, likeness
from pinecart.core.errors import Taken, Unsafe
from pinecart.drivers.file_names import HiddenNames, must_be_safe, parts_of, why_unsafe
from pinecart.drivers.folder.abilities import FolderAbilities
from pinecart.drivers.folder.own_files import OwnFiles
from pinecart.drivers.folder.root import FolderRoot, is_gone
from pinecart.drivers.folder.writing import entry_of


class FileRemover:
    """own: what this run has put there, which is never taken away."""

    def __init__(
        self,
        root: FolderRoot,
        abilities: FolderAbilities,
        hidden: HiddenNames,
        own: OwnFiles,
    ) -> None:
        self._root = root
        self._abilities = abilities
        self._kernel = root.kernel
        self._hidden = hidden
        self._own = own

    async def is_absent(self, key: bytes) -> bool:
        *parents, name = key.removesuffix(b"/").split(b"/")

        def look() -> bool:
            """False as well where it can't be told. Neither a lost disk nor a link that leads
            elsewhere may look as if the file had been removed: both raise.
            """
            with self._root.folder(()) as root:
                self._root.must_be_the_same(root)
            if why_unsafe(key.removesuffix(b"/"), self._root.name):
                return True  # no file of a folder has such a name
            try:
                with self._root.folder(tuple(parents)) as parent:
                    found = os.stat(name, dir_fd=parent, follow_symlinks=False)
            except OSError as exc:
                if not is_gone(exc, self._root, tuple(parents)):
                    raise
                return True
            # A folder is no file; a link on the way is an error.
            return st.S_ISDIR(found.st_mode) != key.endswith(b"/")

        found: bool = await self._root.do(look)
        return found

    async def move(self, key: bytes, to: bytes, expected: Entry) -> Entry:
        """A rename, looked at again afterwards, and put back if it was another file after all."""
        if key.endswith(b"/"):
            return await self._without_a_copy(key, expected)
        must_be_safe(to, self._root.name)
        *parents, name = key.split(b"/")
        *new_parents, new = to.split(b"/")
        self._must_not_be_ours(key, expected)

        def work() -> Entry:
            """All within one thread, between two looks: what isn't what was planned for is put back
            where it was, under its name.
            """
            with (
                self._root.folder(tuple(parents)) as here,
                self._root.folder(tuple(new_parents), create=True) as there,
            ):
                self.must_be_as(here, name, key, expected)
                self._kernel.rename_if_absent(here, name, there, new)
                found = os.stat(new, dir_fd=there, follow_symlinks=False)
                moved = entry_of(to, found)
                if likeness(moved, fingerprint(expected)) is Likeness.DIFFERENT:
                    self._kernel.rename_if_absent(there, new, here, name)
                    raise Taken(
                        f"{self._root.named(key)} changed while it was moved, and was put back."
                    )
                for fd in (there, here):
                    os.fsync(fd)
                return moved

        moved: Entry = await self._root.do(work)
        return moved

    async def _without_a_copy(self, key: bytes, expected: Entry) -> Entry:
        """An empty folder is taken away; there is nothing to keep of it."""
        await self.remove(key, expected)
        return expected

    async def remove(self, key: bytes, expected: Entry) -> bool:
        """False: the system has no removal on a condition, so that it was looked at just before,
        which the record says.
        """
        *parents, name = key.removesuffix(b"/").split(b"/")
        self._must_not_be_ours(key, expected)

        def work() -> bool:
            """A folder that has something in it again stays, without a word."""
            with self._root.folder(tuple(parents)) as parent:
                if key.endswith(b"/"):
                    with contextlib.suppress(OSError):  # no longer empty: then it stays
                        os.rmdir(name, dir_fd=parent)
                    return False
                self.must_be_as(parent, name, key, expected)
                os.unlink(name, dir_fd=parent)
                os.fsync(parent)
            return False

        guarded: bool = await self._root.do(work)
        return guarded

    async def tidy(self, prefix: bytes, key: bytes) -> None:
        """Folders that lost their last file are taken away from the innermost outwards, as far as
        the place's own folder, which stays.
        """
        least = len(parts_of(prefix))
        parts = key.split(b"/")[:-1]

        def work() -> None:
            while len(parts) > least:
                *above, last = parts
                try:
                    with self._root.folder(tuple(above)) as parent:
                        os.rmdir(last, dir_fd=parent)
                except OSError:  # not empty, or gone already
                    return
                parts.pop()

        await self._root.do(work)

    def must_be_as(self, parent: int, name: bytes, key: bytes, expected: Entry) -> None:
        found = os.stat(name, dir_fd=parent, follow_symlinks=False)
        mode = found.st_mode
        is_file = st.S_ISREG(mode) or (expected.is_link and st.S_ISLNK(mode))
        if not is_file or not self._abilities.same(found, expected):
            raise Taken(
                f"{self._root.named(key)} is not as it was when this was planned. It "
                "was left alone."
            )

    async def sweep(self, prefixes: Collection[bytes]) -> None:
        """One place that can't be reached is no reason to leave the others as they are."""

        def work() -> None:
            for prefix in prefixes:
                with contextlib.suppress(OSError, Unsafe):
                    self._sweep_one(parts_of(prefix))

        await self._root.do(work)

    def _sweep_one(self, parts: tuple[bytes, ...]) -> None:
        """Unfinished files of this run, in this folder alone: those of others may still be written
        to.
        """
        is_ours = self._hidden.pattern.fullmatch
        with self._root.folder(parts) as fd:
            for name in os.listdir(fd):
                if is_ours(os.fsencode(name)):
                    with contextlib.suppress(FileNotFoundError):
                        os.unlink(name, dir_fd=fd)

    def _must_not_be_ours(self, key: bytes, expected: Entry) -> None:
        """What was written a moment ago is never taken away, under whatever name it seems to be
        another file.
        """
        if expected.inode in self._own:
            message = (
                f"{self._root.named(key)} is a file that this very run has put there. It "
                "was left alone."
            )
            raise Taken(message, code="written-by-this-run")
