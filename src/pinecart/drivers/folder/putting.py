"""How files, folders and links come to be in a folder store."""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Iterator
from functools import partial

from pinecart.core.checksum import EMPTY, Crc64
from pinecart.core.entries import LINK, Entry, same
from pinecart.core.errors import Changed, Corrupt, Unsafe
from pinecart.core.places import show
from pinecart.core.ports import HELD_BYTES, Placed, Put, Reading, Room
from pinecart.drivers.file_names import HiddenNames, folder_entry, leads_out, must_be_safe, parts_of
from pinecart.drivers.folder.abilities import FolderAbilities
from pinecart.drivers.folder.own_files import OwnFiles
from pinecart.drivers.folder.removal import FileRemover
from pinecart.drivers.folder.root import FolderRoot, translated
from pinecart.drivers.folder.writing import (
    SMALL_WRITE,
    Batches,
    Begin,
    FolderWriting,
    Parents,
    entry_of,
    give,
    write_together,
)
from pinecart.drivers.pieces import each_piece, piece_size


class FilePutter:
    """read_back: whether every file is read from the disk after it is written."""

    def __init__(
        self,
        root: FolderRoot,
        abilities: FolderAbilities,
        hidden: HiddenNames,
        own: OwnFiles,
        remover: FileRemover,
        *,
        read_back: bool,
    ) -> None:
        self._root = root
        self._abilities = abilities
        self._kernel = root.kernel
        self._hidden = hidden
        self._own = own
        self._remover = remover
        self._reads_back = read_back
        self._batches = Batches(self.parents, root.kernel)

    async def put(self, put: Put) -> Placed:
        if put.key.endswith(b"/") and not put.size:
            return await self._put_folder(put)
        must_be_safe(put.key, self._root.name)
        if put.extra.link and self._root.links == "keep" and isinstance(put.body, bytes):
            return await self._put_link(put, put.body)
        if isinstance(put.body, bytes):
            body = put.body
            return await self._write(
                lambda parents: (self.begun(put, body, parents), put.card.crc), put.size
            )
        source = put.body
        with self.parents() as parents:
            return await self._put_in_pieces(put, source, parents)

    async def _put_in_pieces(self, put: Put, source: Reading, parents: Parents) -> Placed:
        writing = await self._root.do(lambda: self._new_writing(put, parents))

        # Used again and again: fresh memory of this size is mapped page by page each time.
        spare: list[bytearray] = []

        async def carry(_: int, start: int, size: int) -> str:
            crc = Crc64()
            room = spare.pop() if spare else Room(HELD_BYTES)
            end = start + size
            for at in range(start, end, HELD_BYTES):
                length = min(HELD_BYTES, end - at)
                chunk = await source.piece(at, length, room)
                crc.add(chunk)
                await self._root.do(partial(writing.add_at, chunk, at))
            spare.append(room)
            return crc.text

        try:
            length = piece_size(put.size)
            crc = await each_piece(put.size, length, carry)
            await source.verify(crc)
            placed: Placed = await self._root.do(lambda: writing.finish(crc))
            return self._noted(placed)
        finally:
            await asyncio.to_thread(writing.drop)

    async def _put_folder(self, put: Put) -> Placed:
        """Made if it isn't there; its permissions, attributes and time are set."""
        must_be_safe(put.key[:-1], self._root.name)

        def work() -> Placed:
            with self._root.folder(parts_of(put.key), create=True) as fd:
                give(self._kernel, fd, put)
                self._kernel.flush(fd)
                return Placed(folder_entry(put.key), "read-back", guarded=False, crc=EMPTY)

        placed: Placed = await self._root.do(work)
        return placed

    async def _put_link(self, put: Put, text: bytes) -> Placed:
        """A link as a link, if it leads to a place in this store. Raises Unsafe."""
        *parents, name = put.key.split(b"/")
        if leads_out(tuple(parents), text):
            message = (
                f"{self._root.named(put.key)}: it is a link that leads out of the store, "
                f"to {show(text)}. It was not made: whoever follows it would be elsewhere."
            )
            raise Unsafe(message, code="link-leads-out")

        def work() -> Placed:
            with self._root.folder(tuple(parents), create=True) as parent:
                hidden = self._hidden.next()
                os.symlink(text, hidden, dir_fd=parent)
                try:
                    guarded = False
                    if put.if_absent:
                        guarded = self._kernel.rename_if_absent(parent, hidden, parent, name)
                    else:
                        if put.expected is not None:
                            self._remover.must_be_as(parent, name, put.key, put.expected)
                        self._kernel.replace(parent, hidden, name)
                except BaseException:
                    os.unlink(hidden, dir_fd=parent)
                    raise
                self._kernel.flush(parent)
                placed = entry_of(
                    put.key, os.stat(name, dir_fd=parent, follow_symlinks=False)
                )._replace(kind=LINK)
                if os.readlink(name, dir_fd=parent) != text:
                    told = "the link does not read back the same"
                    raise Corrupt(f"{self._root.named(put.key)}: {told}.")
                return Placed(placed, "read-back", guarded=guarded, crc=put.card.crc)

        placed: Placed = await self._root.do(work)
        return placed

    async def copy(self, put: Put, source: FolderRoot, source_key: bytes, entry: Entry) -> Placed:
        """Between two folders of this machine the kernel copies; both sides are read for their
        checksums.
        """
        if put.key.endswith(b"/"):
            return await self._put_folder(put)
        must_be_safe(put.key, self._root.name)

        def begin(parents: Parents) -> tuple[FolderWriting, str]:
            with source.file(source_key) as fd:
                opened = entry_of(b"", os.fstat(fd))
                with self._writing(put, parents) as writing:
                    crc = writing.copy_from(fd, opened.size)
                    now = entry_of(b"", os.fstat(fd))
                    if not (same(now, opened) and same(now, entry)):
                        raise Changed(
                            f"pine://{source.name}/{show(source_key)} changed while it was read."
                        )
                    return writing, crc

        return await self._write(begin, entry.size)

    async def _write(self, begin: Begin, size: int) -> Placed:
        """A small file together with others, so that they share a flush; a large one by itself.
        Raises what was wrong with this one file.
        """
        try:
            if size <= SMALL_WRITE:
                placed = await self._batches.write(begin)
                return self._noted(placed)
            (found,) = await asyncio.to_thread(write_together, [begin], self.parents, self._kernel)
            if isinstance(found, Exception):
                raise found
        except OSError as exc:
            raise translated(exc, self._root.name) from exc
        return self._noted(found)

    def parents(self) -> Parents:
        return Parents(partial(self._root.folder, create=True))

    def begun(self, put: Put, body: bytes, parents: Parents) -> FolderWriting:
        with self._writing(put, parents) as writing:
            writing.add_at(body, 0)
            return writing

    def _new_writing(self, put: Put, parents: Parents) -> FolderWriting:
        return FolderWriting(
            self._root.name,
            put,
            parents,
            self._hidden.next(),
            self._abilities.same,
            self._kernel,
            read_back=self._reads_back,
        )

    @contextlib.contextmanager
    def _writing(self, put: Put, parents: Parents) -> Iterator[FolderWriting]:
        """A file with its bytes, permissions and time; cleared away if that fails."""
        writing = self._new_writing(put, parents)
        try:
            yield writing
            writing.give()
        except BaseException:
            writing.drop()
            raise

    def _noted(self, placed: Placed) -> Placed:
        self._own.add(placed.entry.inode)
        return placed
