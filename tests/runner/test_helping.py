"""Batches carried by another process than the run's: twice at once, called back, given up, and not
for everybody; and parts.
"""

from __future__ import annotations

import asyncio
import os
import random

import pytest

from pinecart.core.batch import Batch, BatchAnswer, Carried, Parts, Task
from pinecart.core.checksum import crc_of
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import Incomplete, Refused, SignInRefused
from pinecart.drivers import open_store
from pinecart.runner.batch_helper import GIVE_UP_AFTER, BatchHelper, Sharing
from pinecart.runner.object_transfer import ObjectTransfer, TransferOptions
from pinecart.runner.side import Side
from pinecart.standins.bucket_behaviour import Behaviour
from tests.runner.engine import QUICK, posts

PROBES = 1  # parts by which it is asked whether a condition is held
TO_BUCKET = read_definition(
    {"job": "dawn", "legs": [{"from": "pine://posts/", "to": "pine://office/dawn/in/"}]}
)


@pytest.fixture
def many(tmp_path):
    root = tmp_path / "posts"
    root.mkdir()
    for n in range(150):
        (root / f"{n:03}.csv").write_bytes(b"count %d" % n)
    return root


async def batch_of(root, rules, **changes):
    entries = [e async for page in posts(root).list(b"") for e in page]
    leg = rules.legs[0]
    tasks = tuple(Task(e.key, e, None) for e in entries)
    return Batch(1, 5, 0, 2, rules.digest, leg.source.text, leg.target.text, tasks)._replace(
        **changes
    )


async def carried(root, target, batch, definition=TO_BUCKET, most=8):
    """The batch, carried by a helper of its own; what it is told and answers passes as text."""
    helping = BatchHelper(5, 2, definition, {"posts": posts(root), "office": target}, lambda: most)
    async with helping.pool:
        return BatchAnswer.read(
            (await helping.take(Batch.read(batch.text()))).text()
        ).results, helping


async def test_a_batch_given_out_twice_at_once_does_no_harm_in_a_bucket(many, office):
    server, opened = office
    batch = await batch_of(many, TO_BUCKET)
    (one, _), (other, _) = await asyncio.gather(*(carried(many, opened(), batch) for _ in range(2)))
    for mine, theirs in zip(one, other, strict=True):
        assert isinstance(mine, Carried) and isinstance(theirs, Carried)
        assert (mine.row.there, mine.row.crc) == (theirs.row.there, theirs.row.crc)
    assert {k: server.shelf.body("dawn", k) for k in server.shelf.buckets["dawn"]} == {
        f"in/{p.name}": p.read_bytes() for p in many.iterdir()
    }


async def test_a_batch_given_out_again_recognises_what_lies_in_a_folder_and_nothing_else(
    many, tmp_path
):
    """A folder keeps no card that says whose write it was: the content tells, and only of a batch
    that is given out again.
    """
    there = tmp_path / "there"
    there.mkdir()
    to_folder = read_definition(
        {"job": "dawn", "legs": [{"from": "pine://posts/", "to": "pine://office/"}]}
    )
    target = {"kind": "folder", "name": "office", "path": str(there)}
    batch = await batch_of(many, to_folder)
    first, _ = await carried(many, open_store(target), batch, to_folder)
    assert all(isinstance(r, Carried) for r in first)
    (there / "007.csv").write_bytes(b"another")
    (there / "008.csv").unlink()
    again, _ = await carried(many, open_store(target), batch._replace(again=True), to_folder)
    assert (
        again[7].code == "store.not-as-planned" and (there / "007.csv").read_bytes() == b"another"
    )
    assert [r.row.there for n, r in enumerate(again) if n not in (7, 8)] == [
        r.row.there for n, r in enumerate(first) if n not in (7, 8)
    ]
    assert (there / "008.csv").read_bytes() == b"count 8" and {p.name for p in there.iterdir()} == {
        p.name for p in many.iterdir()
    }
    once, _ = await carried(many, open_store(target), batch, to_folder)
    assert {r.code for r in once if r} == {
        "store.not-as-planned"
    }  # what others have put there is never taken for ours


async def test_a_batch_that_is_called_back_leaves_what_it_has_not_begun(many, office):
    server, opened = office
    server.behaviour["put"] = Behaviour(delay_s=0.05)
    batch = await batch_of(many, TO_BUCKET)
    helping = BatchHelper(5, 2, TO_BUCKET, {"posts": posts(many), "office": opened()}, lambda: 4)
    async with helping.pool:
        taking = asyncio.create_task(helping.take(batch))
        while server.counts["put"] < 12:
            await asyncio.sleep(0.01)
        helping.recall()
        results = (await asyncio.wait_for(taking, 5)).results
        done = sum(isinstance(r, Carried) for r in results)
        assert 4 <= done < 100 and results.count(None) == 150 - done == 150 - len(
            server.shelf.buckets["dawn"]
        )
        server.behaviour.clear()
        assert all(
            isinstance(r, Carried)
            for r in (await helping.take(batch._replace(number=2, tasks=batch.tasks[-9:]))).results
        )


@pytest.mark.parametrize(
    ("fails", "tried"), [("AccessDenied", GIVE_UP_AFTER), ("InvalidAccessKeyId", 8)]
)
async def test_it_gives_up_after_so_many_failures_in_a_row_and_at_once_without_a_key(
    many, office, fails, tried
):
    server, opened = office
    batch = await batch_of(many, TO_BUCKET)
    helping = BatchHelper(5, 2, TO_BUCKET, {"posts": posts(many), "office": opened()}, lambda: 8)
    async with helping.pool:
        await helping.take(
            batch._replace(tasks=batch.tasks[:1])
        )  # its questions to the store are asked
        server.behaviour["put"] = Behaviour(fail=fails)
        results = (await helping.take(batch._replace(number=2, tasks=batch.tasks[1:]))).results
    failed = [r for r in results if r is not None]
    assert 1 <= len(failed) < tried + 8 and results.count(None) == 149 - len(failed)
    assert any(isinstance(r, SignInRefused) for r in failed) == (tried == 8)


@pytest.mark.parametrize("changes", [{"run": 6}, {"epoch": 1}, {"definition": "another"}])
async def test_a_batch_of_another_run_epoch_or_definition_is_refused(many, office, changes):
    server, opened = office
    with pytest.raises(Incomplete, match="another run"):
        await carried(many, opened(), await batch_of(many, TO_BUCKET, **changes))
    assert not server.counts


class Alone:
    """A crew of one helper, in this process: what it is told and answers passes as text. spoils:
    what it does before it answers.
    """

    def __init__(self, helping, spoils=lambda: None):
        self.helping, self.spoils, self.sent = helping, spoils, []
        self.busy = False

    def free(self):
        if self.busy:
            return None
        self.busy = True
        return self

    def requests(self):
        return {}

    async def send(self, leg, key, entry, upload, step, numbers):
        rules = TO_BUCKET.legs[0]
        parts = Parts(
            7,
            5,
            leg,
            2,
            TO_BUCKET.digest,
            rules.source.text,
            rules.target.text,
            key,
            entry,
            upload,
            step,
            tuple(numbers),
        )
        results = BatchAnswer.read(
            (await self.helping.send(Parts.read(parts.text()))).text()
        ).results
        self.spoils()
        self.busy = False
        self.sent.append({n: (r.etag, r.crc) for n, r in zip(numbers, results, strict=True) if r})
        return self.sent[-1]

    def recall(self):
        self.helping.recall()


@pytest.fixture
def long(tmp_path):
    root = tmp_path / "posts"
    root.mkdir()
    (root / "long").write_bytes(random.Random(3).randbytes(1 << 20) * 100)  # 13 parts
    os.utime(root / "long", (1_700_000_000, 1_700_000_000))
    return root / "long"


async def sent_with_help(long, office, *, alone=lambda: False, spoils=lambda: None, **at_helper):
    """The large file, carried by the run's process and one helper.

    What the helper did, and what is recorded.
    """
    opened = office[1]
    there = {"posts": posts(long.parent), "office": opened()}
    vars(there["office"]).update(at_helper)
    crew = Alone(BatchHelper(5, 2, TO_BUCKET, there, lambda: 8), spoils)
    source, target = Side(posts(long.parent), b""), Side(opened(), b"dawn/in/")
    here = ObjectTransfer(
        TransferOptions(5, 0, source, target, QUICK),
        shares=lambda key, entry: Sharing(crew, 0, key, entry, alone),
    )
    entry = (await posts(long.parent).stat(b"long")).entry
    return crew, await here.transfer(b"long", entry, None)


async def test_parts_of_a_large_object_are_sent_by_a_helper_too(long, office):
    crew, carried = await sent_with_help(long, office)
    server, body = office[0], long.read_bytes()
    assert server.shelf.body("dawn", "in/long") == body and carried.row.crc == crc_of(body)
    assert sum(map(len, crew.sent)) >= 3 and not server.shelf.uploads
    assert server.counts["part"] == 13 + PROBES


async def test_parts_that_fail_at_the_helper_are_sent_by_the_run(long, office):
    async def refuses(*_):
        raise Refused("This key may not do that.")

    crew, _ = await sent_with_help(long, office, put_part=refuses)
    assert (
        office[0].shelf.body("dawn", "in/long") == long.read_bytes()
        and crew.sent
        and not any(crew.sent)
    )


async def test_a_file_that_changes_while_a_helper_reads_it_is_never_placed_half_old(long, office):
    def changed_once(left=iter([1])):
        for _ in left:
            with long.open("r+b") as file:
                file.write(b"another")

    _, carried = await sent_with_help(long, office, spoils=changed_once)
    assert office[0].shelf.body("dawn", "in/long") == long.read_bytes() and carried.tries == 2


async def test_a_run_that_is_paced_sends_all_parts_itself(long, office):
    crew, _ = await sent_with_help(long, office, alone=lambda: True)
    assert not crew.sent and office[0].counts["part"] == 13 + PROBES
