"""What lies in a folder and below it, in byte order of the whole key."""

from __future__ import annotations

import bisect
import errno
import itertools
import os
import re
import stat as st
import sys
import threading
import time
from collections import OrderedDict
from collections.abc import Generator, Iterator, Sequence

from pinecart.core.columns import EntryPage
from pinecart.core.entries import LINK, RACY_NS, Entry
from pinecart.core.errors import StoreError, Unsafe
from pinecart.drivers.file_names import folder_entry
from pinecart.drivers.folder.kernel import Kernel
from pinecart.drivers.folder.looking import Looker, SeenFiles
from pinecart.drivers.folder.names import LOOKED_AT
from pinecart.drivers.folder.root import FolderRoot
from pinecart.drivers.folder.writing import entry_of

PAGE = 1000
ENOUGH = 250  # of one folder are a page by themselves
HOP, HOP_S = 4000, 0.02  # entries, or seconds, of one hop to a thread
HIDDEN = b".pinecart-"
# Links of such a folder, on file systems that count them: its name above, and ".". Others always
# say 1.
NO_FOLDERS_IN_IT = 2
_SLASH = ord("/")
_NAMES = sys.getfilesystemencoding()


class Walk:
    """folders: "all" or "empty" ones are entries too.   after: only what comes after this key.
    ours: hidden names of files which this very run left half written; they are cleared as they are
    met.
    """

    def __init__(
        self, root: FolderRoot, ours: re.Pattern[bytes], *, folders: str = "", after: bytes = b""
    ) -> None:
        self._root = root
        self._ours = ours
        self._folders = folders
        self._after = after
        self._looker = Looker()

    def pages(self, parts: tuple[bytes, ...]) -> Generator[Sequence[Entry], None, None]:
        """Everything below, in pages."""
        return _paged(self._below(parts, b"", self._ways_in(parts)))

    def _ways_in(self, parts: tuple[bytes, ...]) -> frozenset[tuple[int, int]]:
        """The folders above the first one, by device and inode: a link to one of them would never
        end.
        """
        if self._root.links != "follow":
            return frozenset()
        found = set()
        for i in range(len(parts)):
            with self._root.folder(parts[:i]) as above:
                found.add(_identity(above))
        return frozenset(found)

    def _below(
        self, parts: tuple[bytes, ...], base: bytes, above: frozenset[tuple[int, int]]
    ) -> Generator[Sequence[Entry], None, None]:
        """Some at a time: a folder sorts as if its name ended in `/`. above: the folders that it
        lies in.
        """
        after = self._after
        folders = self._folders
        try:
            opened = self._root.folder(parts)
            fd = opened.__enter__()
        except (PermissionError, Unsafe):
            if not base:
                raise
            yield [Entry(base, 0, None, fault="unreadable")]
            return
        except OSError as exc:
            if not base or exc.errno != errno.ELOOP:
                raise
            yield [Entry(base, 0, None, fault="not-a-file")]  # a link that leads out of the root
            return
        try:
            if page := self._of_files_alone(fd, base):
                yield page
                return
            follow = self._root.links == "follow"
            listed = names_again if after else names_in
            names = listed(self._root.kernel, fd, follow=follow)
            if follow and _identity(fd) in above:
                yield [
                    Entry(base, 0, None, fault="not-a-file")
                ]  # a link to a folder above: it would never end
                return
            if base > after and (folders == "all" or (folders == "empty" and not names)):
                yield [folder_entry(base)]
            if after:
                names = [
                    n
                    for n in names
                    if base + n > after or (n[-1] == _SLASH and after.startswith(base + n))
                ]
            at = 0
            for inner in [*_folders_in(names), len(names)]:
                for start in range(at, inner, PAGE):
                    yield self._files(fd, base, names[start : min(start + PAGE, inner)])
                if inner < len(names):
                    inside = above | {_identity(fd)} if follow else above
                    yield from self._below((*parts, names[inner][:-1]), base + names[inner], inside)
                at = inner + 1
        finally:
            opened.__exit__(None, None, None)

    def _of_files_alone(self, fd: int, base: bytes) -> EntryPage | None:
        """All of a folder that holds plain files alone, as most do that hold many: no name is asked
        first what it is. None: it may hold others.
        """
        if self._after or self._root.links == "follow" or (base and self._folders == "all"):
            return None
        if os.fstat(fd).st_nlink != NO_FOLDERS_IN_IT:
            return None
        try:
            names = sorted(os.listdir(b"/proc/self/fd/%d" % fd))
        except OSError:
            return None
        seen = None if len(names) > PAGE or _has_hidden(names) else self._looker.files(fd, names)
        if seen:
            return _page_of(base, names, seen)
        return None

    def _files(self, fd: int, base: bytes, names: Sequence[bytes]) -> Sequence[Entry]:
        """What lies in one folder, folders aside.

        Where all are plain files they are looked at together.
        """
        if not _has_hidden(names) and (seen := self._looker.files(fd, names)):
            return _page_of(base, names, seen)
        some: list[Entry] = []
        for name in names:
            if name.startswith(HIDDEN) and self._ours.fullmatch(name):
                os.unlink(name, dir_fd=fd)
            elif entry := self.listed(fd, name, base + name):
                some.append(entry)
        return some

    def listed(self, fd: int, name: bytes, key: bytes) -> Entry | None:
        """The entry of a name in an open folder, a link by the rule of the store; None: it is
        gone by now, or links are skipped.
        """
        try:
            found = os.stat(name, dir_fd=fd, follow_symlinks=False)
            if st.S_ISLNK(found.st_mode):
                if self._root.links == "skip":
                    return None
                if self._root.links == "keep":
                    return entry_of(key, found)._replace(kind=LINK)
                if self._root.links == "follow":
                    return self._listed_through(fd, name, key)
        except FileNotFoundError:
            return None
        entry = entry_of(key, found)
        if st.S_ISREG(found.st_mode):
            return entry
        return entry._replace(fault="not-a-file")

    def _listed_through(self, fd: int, name: bytes, key: bytes) -> Entry:
        """The file that a link leads to, told under the link's name; a fault where it leads out of
        the root, in a circle, or to no file.
        """
        try:
            with self._root.file_in(fd, name) as inner:
                return entry_of(key, os.fstat(inner))
        except (OSError, Unsafe):  # it leads nowhere, out of the root, or in a circle
            return Entry(key, 0, None, fault="not-a-file")


def _has_hidden(names: Sequence[bytes]) -> bool:
    """Whether a name of ours may be among these, which are in order."""
    at = bisect.bisect_left(names, HIDDEN)
    return at < len(names) and names[at].startswith(HIDDEN)


def _page_of(base: bytes, names: Sequence[bytes], seen: SeenFiles) -> EntryPage:
    return EntryPage.of_files((base + (b"\0" + base).join(names)).split(b"\0"), *seen)


def some_names(root: FolderRoot, parts: tuple[bytes, ...]) -> Iterator[tuple[int, bytes]]:
    """Names below, from wherever they come first, each with a descriptor of its folder.

    What can't be read is passed over.
    """
    todo = [parts]
    left = LOOKED_AT
    while todo and left > 0:
        inner = todo.pop()
        try:
            with root.folder(inner) as fd, os.scandir(fd) as found:
                for each in itertools.islice(found, left):
                    name = os.fsencode(each.name)
                    left -= 1
                    if each.is_dir(follow_symlinks=False):
                        todo.append((*inner, name))
                    yield fd, name
        except (OSError, StoreError):  # the listing itself will say what is wrong
            continue


def _identity(fd: int) -> tuple[int, int]:
    found = os.fstat(fd)
    return found.st_dev, found.st_ino


def names_in(kernel: Kernel, fd: int, *, follow: bool) -> list[bytes]:
    """In byte order; those of folders end in `/`, and sort so."""
    with kernel.entries(fd) as found:
        texts = [e.name + "/" if e.is_dir(follow_symlinks=follow) else e.name for e in found]
    if not texts:
        return []
    together = "\0".join(texts)
    encoded = together.encode(_NAMES, "surrogateescape")
    names = encoded.split(b"\0")
    names.sort()
    return names


_Known = tuple[int, int, int, int, bool]
_KNOWN: OrderedDict[_Known, list[bytes]] = OrderedDict()
_KNOWN_LOCK = threading.Lock()
MOST_KNOWN = 1_000_000  # names that are kept, over all folders


def names_again(kernel: Kernel, fd: int, *, follow: bool) -> list[bytes]:
    """The same, for whoever asks page by page: kept while the folder's own times say that no name
    came or went.
    """
    found = os.fstat(fd)
    mark = (found.st_dev, found.st_ino, found.st_mtime_ns, found.st_ctime_ns, follow)
    with _KNOWN_LOCK:
        if mark in _KNOWN:
            _KNOWN.move_to_end(mark)
            return _KNOWN[mark]
    names = names_in(kernel, fd, follow=follow)
    if time.time_ns() - found.st_mtime_ns > RACY_NS and not follow:
        with _KNOWN_LOCK:
            _KNOWN[mark] = names
            while sum(map(len, _KNOWN.values())) > MOST_KNOWN:
                _KNOWN.popitem(last=False)
    return names


def _folders_in(names: Sequence[bytes]) -> list[int]:
    """Where names of folders are: theirs alone have a slash."""
    if b"/" in b"".join(names):
        return [n for n, name in enumerate(names) if name[-1] == _SLASH]
    return []


def some_pages(found: Iterator[Sequence[Entry]]) -> list[Sequence[Entry]]:
    """As many pages as make the way to a thread and back worth it; none at the end."""
    pages = list[Sequence[Entry]]()
    count = 0
    until = time.monotonic() + HOP_S
    for page in found:
        pages.append(page)
        count += len(page)
        if count >= HOP or time.monotonic() > until:
            break
    return pages


def _paged(found: Generator[Sequence[Entry], None, None]) -> Generator[Sequence[Entry], None, None]:
    """What comes in many small pieces in fewer; what comes in large ones as it is."""
    held: list[Entry] = []
    try:
        for some in found:
            if len(some) < ENOUGH:
                held += some
            if held and (len(some) >= ENOUGH or len(held) >= PAGE):
                yield held
                held = []
            if len(some) >= ENOUGH:
                yield some
        if held:
            yield held
    finally:
        found.close()
