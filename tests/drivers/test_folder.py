"""The folder driver: the contract, and paths that are hostile."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import errno
import os
import resource
import stat
import threading

import pytest

from pinecart.core.checksum import crc_of
from pinecart.core.errors import Busy, Changed, Corrupt, Refused, StoreError, Taken, Unsafe
from pinecart.core.ports import Put, WriteStamp
from pinecart.drivers import open_store
from pinecart.drivers.file_names import leads_out
from pinecart.drivers.folder.kernel import Kernel
from pinecart.drivers.folder.store import FolderStore
from pinecart.drivers.folder.writing import write_together
from tests.contracts.store import AT, StoreContract, names, put


@pytest.fixture
def store(tmp_path):
    (tmp_path / "larkfell").mkdir()
    return open_store({"kind": "folder", "name": "posts", "path": str(tmp_path)})


class TestFolderStore(StoreContract):
    @pytest.fixture
    def store(self, store, tmp_path):
        self.folder = tmp_path / "larkfell"
        return store

    async def take_away(self, store, name, entry):
        (self.folder / os.fsdecode(name)).unlink()


@pytest.mark.parametrize(
    "key", [b"../x", b"a/../x", b"./x", b"a//x", b"/x", b"x/", b"a\0b", b"n" * 256]
)
async def test_unsafe_names_are_refused_and_nothing_is_made(store, tmp_path, key):
    with pytest.raises(Unsafe):
        await store.put(Put(key, 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True))
    assert sorted(os.listdir(tmp_path)) == ["larkfell"]


async def test_links_are_not_followed_and_special_files_not_opened(store, tmp_path):
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside/secret").write_text("s")
    os.symlink(tmp_path / "outside", tmp_path / "larkfell/door")
    os.symlink(tmp_path / "outside/secret", tmp_path / "larkfell/link")
    os.mkfifo(tmp_path / "larkfell/pipe")
    pages = [page async for page in store.list(AT)]
    assert [(e.key, e.fault) for e in pages[0]] == [
        (b"door", "not-a-file"),
        (b"link", "not-a-file"),
        (b"pipe", "not-a-file"),
    ]
    for key in (b"door/secret", b"link", b"pipe"):
        with pytest.raises(Refused):
            await store.stat(AT + key)
    with pytest.raises(Refused):
        await store.put(
            Put(AT + b"door/new", 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True)
        )
    assert os.listdir(tmp_path / "outside") == ["secret"]


async def test_the_state_folder_is_never_entered(tmp_path):
    (tmp_path / "state").mkdir()
    found = os.stat(tmp_path / "state")
    store = open_store(
        {
            "kind": "folder",
            "name": "all",
            "path": str(tmp_path),
            "forbidden": [(found.st_dev, found.st_ino)],
        }
    )
    with pytest.raises(Unsafe):
        await store.put(
            Put(b"state/x", 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True)
        )
    pages = [page async for page in store.list(b"")]
    assert [(e.key, e.fault) for e in pages[0]] == [(b"state/", "unreadable")]


async def test_another_file_system_than_remembered_fails_before_listing(tmp_path):
    store = open_store({"kind": "folder", "name": "posts", "path": str(tmp_path), "fsid": 1})
    with pytest.raises(Refused, match="mounted") as caught:
        await store.check_place(b"")
    assert caught.value.code == "store.not-the-same"
    marked = open_store(
        {"kind": "folder", "name": "posts", "path": str(tmp_path), "marker": "the-archive"}
    )
    with pytest.raises(Refused, match="the-archive"):
        await marked.check_place(b"")
    (tmp_path / "the-archive").touch()
    await marked.check_place(b"")


async def test_a_file_that_changes_while_it_is_read_is_noticed(store, tmp_path):
    file = tmp_path / "larkfell/growing"
    file.write_bytes(b"first")
    async with store.open(AT + b"growing") as reading:
        file.write_bytes(b"first and more")
        with pytest.raises(Changed):
            await reading.verify()
        with pytest.raises(Changed):
            await reading.whole()


async def test_names_that_are_no_text_keep_their_bytes(store, tmp_path):
    (tmp_path / "larkfell").joinpath(os.fsdecode(b"\xff\xfe")).write_bytes(b"1")
    assert await names(store) == [b"\xff\xfe"]


async def test_left_over_hidden_files_of_this_run_are_cleared_others_kept(tmp_path):
    for name in (".pinecart-7-1-1.part", ".pinecart-8-1-1.part"):
        (tmp_path / name).write_bytes(b"half")
    store = open_store({"kind": "folder", "name": "posts", "path": str(tmp_path), "run": 7})
    assert await names(store, b"") == [b".pinecart-8-1-1.part"]


async def test_a_write_that_fails_leaves_no_hidden_file(store, tmp_path):
    with pytest.raises(Corrupt):
        await store.put(
            Put(AT + b"x", 4, b"half", WriteStamp("d", None, crc_of(b"whole")), if_absent=True)
        )
    assert os.listdir(tmp_path / "larkfell") == []


async def test_a_folder_that_cannot_be_read_is_listed_as_unreadable(tmp_path):
    if os.geteuid() == 0:
        pytest.skip("root reads everything")
    (tmp_path / "closed").mkdir(mode=0)
    store = open_store({"kind": "folder", "name": "posts", "path": str(tmp_path)})
    assert [(e.key, e.fault) async for page in store.list(b"") for e in page] == [
        (b"closed/", "unreadable")
    ]


async def test_folders_swapped_for_links_while_it_writes_never_let_anything_out(store, tmp_path):
    (tmp_path / "outside").mkdir()
    (tmp_path / "larkfell/door").mkdir()
    os.symlink(tmp_path / "outside", tmp_path / "larkfell/link")
    stop, swaps = threading.Event(), []
    paths = [os.fsencode(tmp_path / "larkfell" / n) for n in ("door", "link")]

    def swap():
        while (
            not stop.is_set()
        ):  # RENAME_EXCHANGE: at every moment there is a door, a folder or a link
            swaps.append(ctypes.CDLL(None).renameat2(-100, paths[0], -100, paths[1], 2))

    swapper = threading.Thread(target=swap)
    swapper.start()
    written = refused = 0
    try:
        for n in range(5000):
            if n >= 300 and written and refused:
                break
            try:
                await store.put(
                    Put(
                        AT + b"door/%d" % n,
                        1,
                        b"1",
                        WriteStamp("d", None, crc_of(b"1")),
                        if_absent=True,
                    )
                )
                written += 1
            except StoreError:
                refused += 1
    finally:
        stop.set()
        swapper.join()
    assert written and refused and set(swaps) == {0} and os.listdir(tmp_path / "outside") == []


class Watched(Kernel):
    """done: what was flushed and renamed, in order."""

    def __init__(self, *, flushes_whole=True):
        self.done, self._flushes_whole = [], flushes_whole

    def flush(self, fd):
        self.done.append("folder" if stat.S_ISDIR(os.fstat(fd).st_mode) else "file")
        super().flush(fd)

    def flushes_whole(self, fd):
        return self._flushes_whole

    def flush_whole(self, fd):
        self.done.append("all")
        super().flush_whole(fd)

    def rename_if_absent(self, *names):
        self.done.append("rename")
        return super().rename_if_absent(*names)


async def test_a_file_is_flushed_before_it_is_renamed_and_its_folder_after(store, tmp_path):
    kernel = Watched()
    store, done = FolderStore("posts", str(tmp_path), kernel=kernel), kernel.done
    put = lambda name: Put(AT + name, 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True)  # noqa: E731
    await store.put(put(b"x"))
    assert done == ["file", "rename", "folder"]
    done.clear()
    began = [store._putter.begun, store._putter.parents]
    begins = [lambda at, n=n: (began[0](put(b"%d" % n), b"1", at), crc_of(b"1")) for n in range(6)]
    begins.insert(
        3, lambda at: (began[0](put(b"4"), b"another", at), crc_of(b"1"))
    )  # reads back otherwise
    found = write_together(begins, began[1], kernel)
    assert (
        done == ["all", *["rename"] * 6, "folder"]
        and isinstance(found.pop(3), Corrupt)
        and len(set(found)) == 6
    )
    assert not [n for n in os.listdir(store._root.path + "/larkfell") if n.endswith(".part")]


async def test_a_file_system_that_syncfs_does_not_reach_is_flushed_file_by_file(store, tmp_path):
    kernel = Watched(flushes_whole=False)
    putter = FolderStore("posts", str(tmp_path), kernel=kernel)._putter

    def put(n):
        return Put(AT + b"%d" % n, 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True)

    begins = [lambda at, n=n: (putter.begun(put(n), b"1", at), crc_of(b"1")) for n in range(6)]
    write_together(begins, putter.parents, kernel)
    assert [step for step in kernel.done if step != "rename"] == ["file"] * 6 + ["folder"]


async def test_what_this_run_wrote_is_never_taken_away_by_it(store, tmp_path):
    await store.put(Put(AT + b"x", 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True))
    os.rename(tmp_path / "larkfell/x", tmp_path / "larkfell/y")
    entry = (await store.stat(AT + b"y")).entry
    for taking in (store.remove(AT + b"y", entry), store.move(AT + b"y", b".aside/y", entry)):
        with pytest.raises(Taken) as caught:
            await taking
        assert caught.value.code == "written-by-this-run"
    assert (tmp_path / "larkfell/y").exists()
    await open_store({"kind": "folder", "name": "posts", "path": str(tmp_path)}).remove(
        AT + b"y", entry
    )
    assert not (tmp_path / "larkfell/y").exists()


async def test_a_failed_flush_is_a_failed_copy_of_each_file_in_it(store, tmp_path):
    class Failing(Kernel):
        def flush_whole(self, fd):
            raise OSError(errno.EIO, os.strerror(errno.EIO))

    store = FolderStore("posts", str(tmp_path), kernel=Failing())
    puts = [
        store.put(Put(AT + b"%d" % n, 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True))
        for n in range(60)
    ]
    found = await asyncio.gather(*puts, return_exceptions=True)
    failed = [f for f in found if isinstance(f, Busy)]
    assert len(failed) >= 40 and len(os.listdir(store._root.path + "/larkfell")) == 60 - len(failed)


class InSegments(Kernel):
    segment = 1000


@pytest.fixture
def large_copy(store, tmp_path):
    """A file that counts as large, copied inside one folder store."""
    body = os.urandom(10_500)
    (tmp_path / "larkfell/long").write_bytes(body)

    async def copied(kernel=None, **options):
        store = FolderStore("posts", str(tmp_path), kernel=kernel or InSegments(), **options)
        entry = (await store.stat(AT + b"long")).entry
        put = Put(AT + b"copy", entry.size, b"", WriteStamp("d", None, ""), if_absent=True)
        return body, await store.copy(put, store, AT + b"long", entry)

    return copied


async def test_a_large_copy_is_read_back_piece_by_piece(large_copy, tmp_path):
    body, placed = await large_copy()
    assert (placed.crc, placed.proof) == (crc_of(body), "read-back")
    assert (tmp_path / "larkfell/copy").read_bytes() == body
    os.unlink(tmp_path / "larkfell/copy")
    told = []

    class OneBad(InSegments):
        def crc_of_range(self, fd, at, size):
            told.append(at)
            is_bad = told.count(at) == 2 and at == 3000
            return "bad" if is_bad else super().crc_of_range(fd, at, size)

    with pytest.raises(Corrupt):
        await large_copy(OneBad())
    assert os.listdir(tmp_path / "larkfell") == ["long"]


async def test_without_reading_back_the_size_is_all_the_proof(large_copy, tmp_path):
    store = open_store(
        {"kind": "folder", "name": "posts", "path": str(tmp_path), "read_back": "no"}
    )
    body, placed = await large_copy(read_back=False)
    assert (placed.crc, placed.proof) == (crc_of(body), "size-only")
    placed = await store.put(
        Put(AT + b"small", 1, b"1", WriteStamp("d", None, crc_of(b"1")), if_absent=True)
    )
    assert placed.proof == "size-only"
    os.unlink(tmp_path / "larkfell/copy")

    class TakesNoMore(InSegments):
        def copy_range(self, *where):
            return 0

    with pytest.raises(Corrupt):
        await large_copy(TakesNoMore(), read_back=False)


async def test_only_a_disk_that_is_mostly_slow_is_read_by_threads(tmp_path):
    (tmp_path / "a").write_bytes(b"song")

    class Timed(Kernel):
        takes_s = at = 0.0

        def now(self):
            self.at += self.takes_s
            return self.at

    kernel = Timed()
    store = FolderStore("posts", str(tmp_path), kernel=kernel)
    entry = (await store.stat(b"a")).entry

    def read(slow):
        kernel.takes_s = 1.0 if slow else 0.0
        return isinstance(store.open(b"a", entry), contextlib.nullcontext)

    assert all(read(slow=n % 10 == 0) for n in range(500)), "a slow moment is no slow disk"
    assert not all(read(slow=True) for _ in range(40)), "the event loop waits for a slow disk"
    await store.close()


class NotInMemory(Kernel):
    """writes: what somebody adds to the file at each reading."""

    def __init__(self, file):
        self._file, self.writes = file, []

    def read_at_hand(self, fd, room):
        raise BlockingIOError

    def read(self, fd, most):
        found = super().read(fd, most)
        with self._file.open("ab") as file:
            file.write(self.writes.pop(0) if self.writes else b"")
        return found


async def test_a_small_file_that_is_not_in_memory_is_read_in_one_hop(tmp_path):
    (tmp_path / "a").write_bytes(b"song")
    kernel = NotInMemory(tmp_path / "a")
    store = FolderStore("posts", str(tmp_path), kernel=kernel)
    entry = (await store.stat(b"a")).entry
    async with store.open(b"a", entry) as found:
        assert (await found.whole(), found.entry, type(found).__name__) == (
            b"song",
            entry,
            "HeldFile",
        )
    kernel.writes = [b"x", b"", b"", b"y"]  # during the hop, and once more in the usual way
    with pytest.raises(Changed):
        async with store.open(b"a", entry) as found:
            await found.whole()
    await store.close()


async def test_what_a_process_that_died_left_half_written_is_swept_and_nobody_elses(tmp_path):
    aside = tmp_path / ".pinecart-aside/7/0/dawn"
    aside.mkdir(parents=True)
    (aside / ".pinecart-7-123-1.part").write_bytes(b"half a large file")
    (aside / ".pinecart-8-123-1.part").write_bytes(b"another run's")
    (aside / "whole.flac").write_bytes(b"kept")
    store = open_store({"kind": "folder", "name": "posts", "path": str(tmp_path), "run": 7})
    await store.sweep({b".pinecart-aside/7/0/dawn", b"nowhere"})
    assert {p.name for p in aside.iterdir()} == {".pinecart-8-123-1.part", "whole.flac"}
    await store.close()


@pytest.mark.parametrize(
    ("key", "text", "out"),
    [
        (b"l", b"a/b", False),
        (b"x/l", b"../a", False),
        (b"x/y/l", b"../../a", False),
        (b"x/l", b"..", False),
        (b"l", b".", False),
        (b"l", b"..", True),
        (b"x/l", b"../../a", True),
        (b"l", b"/etc", True),
        (b"l", b"//etc", True),
        (b"x/l", b"a/../../b", True),
        (b"l", b"a/..", True),
    ],
)
def test_a_link_is_kept_only_if_it_leads_into_the_store(key, text, out):
    assert leads_out(tuple(key.split(b"/")[:-1]), text) is out


async def test_a_file_larger_than_the_place_takes_is_not_tried_again(store, tmp_path):
    """As on a file system that ends at 4 GiB: here the limit of this process."""
    body = b"x" * 300_000
    limits = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (100_000, limits[1]))
    try:
        with pytest.raises(Refused) as refused:
            await put(store, b"x", body)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, limits)
    assert refused.value.code == "store.too-large"
    assert not os.listdir(tmp_path / "larkfell")
