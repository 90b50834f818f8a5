"""How a file comes to be in a remote tree: under a hidden name beside its place, flushed, read
back, renamed.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from functools import partial

from pinecart.core.checksum import EMPTY, crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import Busy, Corrupt, Missing, Taken, Unsafe
from pinecart.core.ports import Placed, Put
from pinecart.drivers.file_names import folder_entry, joined, leads_out, must_be_safe
from pinecart.drivers.remote_tree.facts import TreeFacts, entry_of
from pinecart.drivers.remote_tree.hidden_files import HiddenFiles
from pinecart.drivers.remote_tree.large_by_offset import LargeByOffset
from pinecart.drivers.remote_tree.large_in_one import LargeInOne
from pinecart.drivers.remote_tree.remote_files import MARKS, FileKind, FileLook, Given, given_of
from pinecart.drivers.remote_tree.tree import Tree


class TreeWriter:
    """reads_back: whether what was written is read again; else its size is all the proof."""

    def __init__(self, tree: Tree, *, reads_back: bool) -> None:
        self._files = tree.files
        self._folders = tree.folders
        self._links = tree.links
        self._names = tree.names
        self._reader = tree.reader
        self._retries = tree.retries
        self._renames = tree.renames
        self._reads_back = reads_back
        self.facts = TreeFacts()
        self._hidden = hidden = HiddenFiles(tree.files, tree.names)
        self._in_one = LargeInOne(tree, hidden, self._name, reads_back=reads_back)
        self._large: LargeByOffset | LargeInOne = self._in_one
        if tree.files.by_offset:
            self._large = LargeByOffset(tree, hidden, self._name, reads_back=reads_back)

    async def clear_left(self) -> None:
        await self._hidden.clear_left()

    async def put(self, put: Put) -> Placed:
        """Attributes are no more than marks there."""
        placed = await self._put(put)
        odd = put.extra.attributes.keys() - {MARKS}
        if not odd:
            return placed
        lost = [placed.lost] if placed.lost else []
        lost += [f"the attribute {name!r}" for name in sorted(odd)]
        return placed._replace(lost=", ".join(lost))

    async def _put(self, put: Put) -> Placed:
        await self.clear_left()
        key = put.key
        body = put.body
        if key.endswith(b"/") and not put.size:
            return await self._put_folder(put)
        must_be_safe(key, self._files.name)
        folder = key.rpartition(b"/")[0]
        await self._folders.enter(folder, create=True)
        if not isinstance(body, bytes):
            return await self._large.put(put, body)
        if put.extra.link and self._links.rule == "keep":
            return await self._put_link(put, body)
        try:
            return await self._put_small(put, body)
        except Missing as exc:
            self._folders.forget(folder)
            message = f"{self._reader.named(key)}: its folder went away. It is tried again."
            raise Busy(message, code="store.busy") from exc

    async def put_copied(self, put: Put, copy: Callable[[bytes], Awaitable[None]]) -> Placed:
        """copy: has the server itself copy something to this hidden path."""
        key = put.key
        crc = put.card.crc
        must_be_safe(key, self._files.name)
        folder = key.rpartition(b"/")[0]
        await self._folders.enter(folder, create=True)
        async with self._hidden.beside(key) as hidden:
            await copy(hidden)
            if self._reads_back and await self._in_one.crc_of(hidden, put.size) != crc:
                message = self._reader.differs(key)
                raise Corrupt(message)
            return await self._name(put, hidden, crc)

    async def _put_folder(self, put: Put) -> Placed:
        """Made if it isn't there; its permissions are set."""
        path = put.key[:-1]
        mode = put.extra.mode
        must_be_safe(path, self._files.name)
        await self._folders.enter(path, create=True)
        if mode is not None:
            set_mode = partial(self._files.set, path, Given(mode=mode))
            await self._retries.safely(set_mode)
        entry = folder_entry(put.key)
        return Placed(entry, "read-back", guarded=False, crc=EMPTY)

    async def _put_link(self, put: Put, text: bytes) -> Placed:
        """A link as a link, if it leads to a place in this store. Raises Unsafe."""
        parents = tuple(put.key.split(b"/")[:-1])
        if leads_out(parents, text):
            message = (
                f"{self._reader.named(put.key)}: it is a link that leads out of the store. It was "
                "not made: whoever follows it would be elsewhere."
            )
            raise Unsafe(message, code="link-leads-out")
        async with self._hidden.beside(put.key) as hidden:
            await self._links.make(hidden, text)
            placed = await self._name(put, hidden, put.card.crc)
            if await self._retries.safely(lambda: self._links.text(put.key)) != text:
                raise Corrupt(self._reader.differs(put.key))
            return placed._replace(proof="read-back")

    async def _put_small(self, put: Put, body: bytes) -> Placed:
        key = put.key
        crc = put.card.crc
        given = given_of(put)
        read_back = self._reads_back
        async with self._hidden.beside(key) as hidden:
            told = await self._files.write_whole(hidden, body, given, read_back=read_back)
            back, found = told
            if back is not None and crc_of(back) != crc:
                message = self._reader.differs(key)
                raise Corrupt(message)
            return await self._name(put, hidden, crc, found)

    async def _name(
        self, put: Put, hidden: bytes, crc: str, written: FileLook | None = None
    ) -> Placed:
        """The step that makes it visible; and what is seen there then.

        written: how it was told under its hidden name.
        """
        if put.if_absent:
            guarded = await self._renames.if_absent(hidden, put.key, put.size)
        else:
            seen = None
            if put.expected is not None:
                seen = await self._must_still_be(put.key, put.expected)
            guarded = await self._renames.replace(hidden, put.key, put.size, seen)
        entry = self._certain(put, written)
        if entry is not None:
            return Placed(entry, "read-back", guarded, crc)
        found = await self._seen_there(put)
        entry = entry_of(put.key, found, links=self._links.rule)
        is_link = found.kind is FileKind.LINK
        if not is_link and (entry.fault or found.size != put.size):
            raise Corrupt(self._reader.differs(put.key))
        wanted = put.card.modified_ns
        facts = self.facts
        is_kept = wanted is None or is_link or _near(found, wanted, facts)
        proof = "read-back" if self._reads_back else "size-only"
        is_lost = not is_kept and self._files.sets_times
        return Placed(entry, proof, guarded, crc, "its time" if is_lost else "")

    def _certain(self, put: Put, written: FileLook | None) -> Entry | None:
        """How it is told, where another look would tell nothing new: what was read back has this
        size, and this server was seen to keep a time that an open file was given, or an ETag under
        another name.
        """
        wanted = put.card.modified_ns
        facts = self.facts
        if put.extra.link or not self._reads_back or not facts.probed:
            return None
        if written is not None and written.etag and facts.keeps_etags and not facts.keeps_times:
            return entry_of(put.key, written)
        if wanted is None or not facts.keeps_times:
            return None
        kept_ns = self._files.kept_time(wanted)
        if kept_ns is None:
            return None
        return Entry(put.key, put.size, kept_ns)

    async def _seen_there(self, put: Put) -> FileLook:
        """Some servers set the time of a file anew as it is closed: then it is given once more."""
        look = partial(self._files.look, put.key)
        found = await self._retries.safely(look)
        wanted = put.card.modified_ns
        if wanted is None or found.kind is not FileKind.FILE:
            return found
        is_another = not _near(found, wanted, self.facts)
        if is_another and self.facts.keeps_times:
            give = partial(self._files.set, put.key, Given(wanted))
            await self._retries.safely(give)
            found = await self._retries.safely(look)
        return found

    async def _must_still_be(self, key: bytes, expected: Entry) -> FileLook:
        """What is gone is not as planned either."""
        try:
            return await self._reader.must_be_as(key, expected)
        except Missing as exc:
            raise Taken(exc.message) from exc

    async def clear_uploads(self, key: bytes) -> int:
        """Take away what is left of uploads of exactly this key."""
        folder = key.rpartition(b"/")[0]
        try:
            await self._folders.enter(folder)
            named = await self._retries.safely(lambda: self._files.names(folder))
        except Missing:
            return 0
        mine = [n.name for n in named if self._names.is_resumable_of(n.name, key)]
        for name in mine:
            path = joined(folder, name)
            await self._retries.safely(partial(self._hidden.clear, path))
        return len(mine)


def _near(found: FileLook, wanted_ns: int, facts: TreeFacts) -> bool:
    told = found.modified_ns
    return told is not None and abs(told - wanted_ns) < max(facts.step_ns, 1)
