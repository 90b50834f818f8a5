"""What tests of stores over files of other machines share."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path

from pinecart.core.checksum import crc_of
from pinecart.core.entries import Entry
from pinecart.core.errors import StoreError
from pinecart.core.ports import HELD_BYTES, Placed, Put, Store, WriteStamp
from pinecart.drivers import open_store
from pinecart.drivers.folder.store import FolderStore
from tests.contracts.store import put
from tests.runner.engine import QUICK

LONG = bytes(range(256)) * (3 * HELD_BYTES // 256) + b"and a rest"


def opened(spec, **more):
    own = {"name": "partner", "allowed": ["127.0.0.0/8"], "retry": QUICK._asdict()}
    return open_store(own | spec | more)


async def long_put(store: Store, tmp_path: Path, expected: Entry | None = None, **more) -> Placed:
    """LONG, as `larkfell/long`: where nothing is yet, or in the place of `expected`."""
    (tmp_path / "source").mkdir(exist_ok=True)
    (tmp_path / "source" / "long").write_bytes(LONG)
    async with FolderStore("source", str(tmp_path / "source")).open(b"long") as reading:
        stamp = WriteStamp("d", 1_700_000_000_000_000_000, "")
        asked = Put(b"larkfell/long", len(LONG), reading, stamp, expected is None, expected)
        return await store.put(asked._replace(**more))


async def long_put_in_the_end(store: Store, tmp_path: Path, expected: Entry) -> Placed:
    """As a run does: what may be tried again is."""
    for _ in range(5):
        try:
            return await long_put(store, tmp_path, expected)
        except StoreError as exc:
            assert exc.retry, exc
    raise AssertionError("it never ended well")


async def cut_at_any_step(
    store: Store,
    counts: Counter[str],
    what: str,
    tmp_path: Path,
    there: Callable[[Path], dict[str, bytes]],
) -> None:
    """The first, second and third time that `what` is asked the server cuts the line: one whole
    file is there in the end, and nothing besides. counts: the server's, of what it cuts.
    """
    await store.probe(b"larkfell/")
    before = (await put(store, b"long", b"before")).entry
    for nth in (1, 2, 3):
        counts[what] = nth
        placed = await long_put_in_the_end(store, tmp_path, before)
        assert there(tmp_path) == {"long": LONG} and placed.crc == crc_of(LONG)
        before = placed.entry
    async with store.open(b"larkfell/long") as reading:
        assert b"".join([chunk async for chunk in reading.chunks()]) == LONG
        await reading.verify()
    counts[what] = 1
    await store.remove(b"larkfell/long", (await store.stat(b"larkfell/long")).entry)
    await store.close()
    assert there(tmp_path) == {}
