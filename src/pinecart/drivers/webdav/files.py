"""Files over WebDAV: one call, one request of the protocol, or a few.

What can go wrong here, and is met: a server that tells no ETags, or weak ones, or makes them of the
name; that keeps no conditions; that has no ranges; that removes folders with all that lies in them;
a 207 with errors in it; a list that is cut, or names what lies elsewhere; lengths that are not
true; a lock of somebody's; a nonce that is over; a redirect; a line cut at any step.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager
from functools import partial

from pinecart.core.errors import Busy, Changed, Incomplete, Missing, Refused, Taken, Unsafe
from pinecart.core.places import show
from pinecart.drivers.http_message import HttpAnswer, Pieces, http_time_ns, part_told
from pinecart.drivers.remote_tree.remote_files import (
    FileKind,
    FileLook,
    Given,
    How,
    Named,
    Written,
)
from pinecart.drivers.remote_tree.renaming import replaced_in_steps
from pinecart.drivers.webdav.client import DavClient
from pinecart.drivers.webdav.wire import (
    ASK_LOOK,
    ASK_ROOM,
    Multistatus,
    Told,
    encoded,
    etag_of,
    number_told,
    only_if,
    told_by,
)

XML = {"content-type": "application/xml; charset=utf-8"}
SPARE = 1 << 16  # bytes of an answer besides what was asked for: a refusal in words


class DavFiles:
    """remote_tree.RemoteFiles. Times are the server's own; there are no links.

    unheld: signs at which it takes a new name apart.
    """

    by_offset = False
    sets_times = False
    removes_below = True
    repeats = True
    by_address = True
    pieces = 4

    def __init__(self, client: DavClient) -> None:
        self.name = client.name
        self._client = client
        self._told_root: bytes | None = None
        self.unheld = ""

    @property
    def requests(self) -> int:
        return self._client.transport.sent

    def kept_time(self, modified_ns: int) -> int | None:
        return None

    def place(self) -> str:
        return f"webdav:{self._client.transport.origin}{encoded(self._client.base)}"

    async def close(self) -> None:
        await self._client.transport.close()

    # --- looking

    async def look(self, path: bytes) -> FileLook:
        """A server may lead to the name with a slash for what is a folder: that it does so is
        answer enough.
        """
        answer = await self._propfind(path, ASK_LOOK)
        if answer.status in (301, 308) and _leads_to_folder(answer, path):
            return FileLook(FileKind.FOLDER)
        return self._only(answer, path).look

    async def _propfind(self, path: bytes, body: bytes) -> HttpAnswer:
        """Of this alone."""
        return await self._client.ask("PROPFIND", path, headers=XML | {"depth": "0"}, body=body)

    def _only(self, answer: HttpAnswer, path: bytes) -> Told:
        """What it tells of the one thing that was asked for."""
        doing = "Looking at"
        if answer.status != 207:
            raise self._client.error(answer, path, doing)
        found = told_by(bytes(answer.body))
        if len(found) != 1:
            named = self._client.named(path)
            message = f"{named}: {len(found)} answers came to one question."
            raise Busy(message, code="store.garbled")
        told = found[0]
        if told.status >= 400:
            raise self._client.error_of(told.status, answer.headers, path, doing)
        return told

    async def names(self, path: bytes) -> Sequence[Named]:
        reader = Multistatus()
        folder = path + b"/" if path else path
        headers = XML | {"depth": "1"}
        asking = self._client.streamed("PROPFIND", folder, headers, ASK_LOOK)
        async with asking as (status, told_headers, chunks):
            if status != 207:
                raise self._client.error_of(status, told_headers, path, "Listing")
            listed = [told async for chunk in chunks for told in reader.feed(chunk)]
        listed += reader.close()
        base = await self._base_of(listed, path)
        own = [told for told in listed if told.path == base]
        if len(own) != 1:
            raise Incomplete(f"{self.name} does not tell once of {show(path)} as it lists it.")
        self._must_be_folder(own[0], path)
        return list(self._named(listed, base))

    def _named(self, listed: Sequence[Told], base: bytes) -> Iterator[Named]:
        """What lies just below; some servers list what lies deeper as well."""
        for told in listed:
            if told.path == base:
                continue
            if not told.path.startswith(base + b"/"):
                raise Incomplete(
                    f"{self.name} lists {show(told.path)} among what lies in {show(base)}."
                )
            name = told.path[len(base) + 1 :]
            if b"/" not in name:
                yield Named(name, told.look)

    async def _base_of(self, listed: Sequence[Told], path: bytes) -> bytes:
        """How the server calls the folder that was asked for: behind some gateways its paths have
        another beginning, which it tells where it is asked for the root alone.
        """
        asked = (self._client.base + b"/" + path).rstrip(b"/")
        if any(told.path == asked for told in listed):
            return asked
        if self._told_root is None:
            self._told_root = self._only(await self._propfind(b"", ASK_LOOK), b"").path
        return (self._told_root + b"/" + path).rstrip(b"/")

    def _must_be_folder(self, told: Told, path: bytes) -> None:
        """What was listed, first of all rows. Raises what its status means, or Missing for a file,
        which some servers list as well.
        """
        client = self._client
        if told.status >= 400:
            raise client.error_of(told.status, {}, path, "Listing")
        if told.look.kind is not FileKind.FOLDER:
            named = client.named(path)
            raise Missing(f"{named} is a file: nothing lies below it.")

    async def room(self) -> tuple[int | None, int | None]:
        """Bytes that are free, and used (RFC 4331); None: not told."""
        answer = await self._propfind(b"", ASK_ROOM)
        props = self._only(answer, b"").props
        free = props.get("quota-available-bytes", "")
        used = props.get("quota-used-bytes", "")
        return number_told(free), number_told(used)

    # --- files

    @asynccontextmanager
    async def open(self, path: bytes, how: How) -> AsyncIterator[OpenedDavFile]:
        """Only to be read."""
        if how is not How.READ:
            raise Refused(f"{self._client.named(path)}: WebDAV writes no parts of a file.")
        yield OpenedDavFile(self, self._client, path)

    async def read_whole(self, path: bytes, size: int) -> tuple[FileLook, bytes]:
        asked = {"range": f"bytes=0-{size}"} if size else {}  # one byte more than it has
        ask = partial(self._client.ask, "GET", path, most=size + SPARE)
        answer = await ask(headers=asked)
        if answer.status == 416:  # this server gives no more than a file has
            answer = await ask()
        if answer.status not in (200, 206):
            raise self._client.error(answer, path, "Reading")
        body = bytes(answer.body)
        whole = len(body)
        if answer.status == 206:
            part = part_told(answer.headers)
            if part and part.whole is not None:
                whole = part.whole
        look = await self.told_with(answer.headers, path, whole)
        return look, body

    async def told_with(self, headers: Mapping[str, str], path: bytes, size: int) -> FileLook:
        """What the answer that had its bytes told of the file; where that has no ETag, another
        look, so that a change in between is seen.
        """
        found = _look_told(headers, size)
        if found.is_pinned:
            return found
        return await self.look(path)

    async def write_whole(
        self, path: bytes, body: bytes, given: Given, *, read_back: bool
    ) -> Written:
        """Read back by name, with the ETag that the name has by then, so that a replacement in
        between isn't taken for ours.
        """
        await self._put(path, body)
        if not read_back:
            return Written()
        answer = await self._client.good("GET", path, "Reading back", most=len(body) + SPARE)
        back = bytes(answer.body)
        return Written(back, _look_told(answer.headers, len(back)))

    async def write_stream(
        self, path: bytes, size: int, chunks: Callable[[], AsyncIterator[bytes]], given: Given
    ) -> None:
        """In one request from beginning to end. What is sent in pieces can't be repeated, so that
        the way in is settled before.
        """
        if not self._client.sign_in.way:  # what is sent in pieces can't be sent again at once
            await self.look(b"")
        await self._put(path, Pieces(size, chunks))

    async def _put(self, path: bytes, body: bytes | Pieces) -> None:
        """A name of our own that nobody else has, so that the condition on it only fails where our
        own request was repeated on the way.
        """
        headers = {"if-none-match": "*", "content-type": "application/octet-stream"}
        if not len(body):
            headers["content-length"] = "0"
        try:
            await self._client.good("PUT", path, "Writing", headers=headers, body=body or None)
        except Taken as exc:  # nobody else has this name: it was sent twice
            raise Busy(f"{exc.message} It is tried again.", code="store.cut") from exc

    async def set(self, path: bytes, given: Given) -> None:
        """Nothing can be set."""

    # --- names

    async def rename(self, old: bytes, new: bytes) -> None:
        await self._moved("MOVE", old, new, {"overwrite": "F"})

    async def replace(
        self, old: bytes, new: bytes, away: bytes, seen: FileLook | None = None
    ) -> None:
        """In one step only under a condition: without, a folder that is there would go with all
        that lies in it.
        """
        self._must_hold(new)  # before what is there has another name
        if seen is None:
            await replaced_in_steps(self, old, new, away)
            return
        condition = only_if(self._client.url(new), seen.etag)
        await self._moved("MOVE", old, new, {"overwrite": "T", "if": condition})

    def _must_hold(self, path: bytes) -> None:
        """Raises Unsafe."""
        why = self.why_unheld(path)
        if why:
            raise Unsafe(why)

    def why_unheld(self, path: bytes) -> str:
        """In a sentence; empty: the server holds this name."""
        odd = [sign for sign in self.unheld if sign.encode() in path]
        if not odd:
            return ""
        return (
            f"{self._client.named(path)}: this server takes names apart at {' '.join(odd)} as it "
            "renames, so that the file would get another name. It is left where it is; rename it "
            "at the source."
        )

    async def copy(self, old: bytes, new: bytes, seen: FileLook | None) -> None:
        """By the server itself. seen: only this, where the server was seen to keep such conditions
        (some refuse all of them). Raises Changed.
        """
        client = self._client
        headers = {"overwrite": "F", "depth": "0"}
        if seen is not None:
            url = client.url(old)
            headers["if"] = only_if(url, seen.etag)
        try:
            await self._moved("COPY", old, new, headers)
        except Taken as exc:
            raise Changed(f"{client.named(old)} changed before it was copied.") from exc

    async def _moved(self, method: str, old: bytes, new: bytes, headers: dict[str, str]) -> None:
        self._must_hold(new)
        where = {"destination": self._client.url(new)}
        await self._client.good(method, old, "Naming", headers=where | headers)

    async def remove(self, path: bytes, seen: FileLook | None = None) -> None:
        condition = {} if seen is None else {"if-match": f'"{seen.etag}"'}
        await self._client.good("DELETE", path, "Removing", headers=condition)

    async def make_folder(self, path: bytes) -> None:
        """Raises Taken where anything is there, which the protocol tells by its status for a method
        that isn't allowed.
        """
        client = self._client
        answer = await client.ask("MKCOL", path + b"/")
        if answer.status == 405:
            named = client.named(path)
            raise Taken(f"{named}: something is there.")
        if answer.status != 201:
            raise client.error(answer, path, "Making the folder")

    async def remove_folder(self, path: bytes) -> None:
        await self._client.good("DELETE", path + b"/", "Removing the folder")


class OpenedDavFile:
    """One content of a file, named by the ETag that its first answer had."""

    def __init__(self, files: DavFiles, client: DavClient, path: bytes) -> None:
        """Nothing is open at the server: what was told with the first part is held to with each one
        after it.
        """
        self._files = files
        self._client = client
        self._path = path
        self._first: FileLook | None = None

    async def look(self) -> FileLook:
        """By asking for its first bytes: then it is known as well whether parts are given. Two,
        since some servers take `0-0` for the whole.
        """
        headers = {"range": "bytes=0-1"}
        async with self._client.streamed("GET", self._path, headers) as (status, told, chunks):
            if status == 200:
                message = (
                    f"{self._client.named(self._path)}: this server gives no parts of a file, so "
                    "that one so large can't be read here."
                )
                raise Refused(message, code="store.no-ranges")
            if status != 206:
                raise self._client.error_of(status, told, self._path, "Reading")
            async for _ in chunks:
                pass
            part = part_told(told)
        if part is None:
            raise self._garbled()
        size = part.whole
        if size is None:
            listed = await self._files.look(self._path)
            size = listed.size
        self._first = await self._files.told_with(told, self._path, size)
        return self._first

    async def read(self, start: int, size: int, into: bytearray | None = None) -> bytes:
        first = self._first or await self.look()
        wanted = min(size, first.size - start)
        if wanted <= 0:
            return b""
        headers = {"range": f"bytes={start}-{start + wanted - 1}"}
        if first.is_firm:
            headers["if-match"] = f'"{first.etag}"'
        most = max(wanted, SPARE)
        answer = await self._client.ask("GET", self._path, headers=headers, most=most, into=into)
        if answer.status in (412, 416):  # another one, or shorter than it was
            raise self._changed()
        if answer.status != 206:
            raise self._client.error(answer, self._path, "Reading")
        came = part_told(answer.headers)
        last = start + wanted - 1
        if came not in ((start, last, first.size), (start, last, None)):
            raise self._garbled()
        if first.is_pinned and etag_of(answer.headers.get("ETag", ""))[0] != first.etag:
            raise self._changed()
        return answer.body

    def _changed(self) -> Changed:
        return Changed(f"{self._client.named(self._path)} changed while it was read.")

    def _garbled(self) -> Busy:
        message = f"{self._client.named(self._path)}: another part came than was asked for."
        return Busy(message, code="store.garbled")

    async def write(self, start: int, data: bytes) -> None:
        raise NotImplementedError

    async def give(self, given: Given) -> None:
        raise NotImplementedError


def _look_told(headers: Mapping[str, str], size: int) -> FileLook:
    """By an answer that has its bytes."""
    told = headers.get("ETag", "")
    etag, is_firm = etag_of(told)
    changed = headers.get("Last-Modified", "")
    modified = http_time_ns(changed)
    pinned = bool(etag)
    return FileLook(FileKind.FILE, size, modified, etag=etag, is_firm=is_firm, is_pinned=pinned)


def _leads_to_folder(answer: HttpAnswer, path: bytes) -> bool:
    """Some servers send us from the name of a folder to the same with a slash."""
    where = answer.headers.get("Location", "")
    return where.endswith(encoded(path.rpartition(b"/")[2]) + "/")
