"""What the engine may rely on in whatever keeps a run's records: a double, or the database."""

from __future__ import annotations

from pinecart.core.entries import Aside, Row
from pinecart.runner.records import Record

KEYS = [b"%02d" % n for n in range(25)]


def record(key, decision="copy", **more):
    row = Row(key, "here", "there", run=1)
    return Record(0, key, decision, "new", 9, **{"proof": "read-back", "row": row, **more})


async def remembered(records):
    found = [row async for page in records.pages(0) for row in page]
    assert [row.key for row in found] == sorted(row.key for row in found)
    return {row.key for row in found}


class RecordsContract:
    async def test_what_was_saved_is_remembered_in_the_order_of_keys(self, records):
        await records.save([record(key) for key in reversed(KEYS)])
        assert await remembered(records) == set(KEYS)
        await records.save([record(KEYS[0])])  # once more is the same
        assert await remembered(records) == set(KEYS)
        await records.drop(0, KEYS[:5])
        assert await remembered(records) == set(KEYS[5:])

    async def test_what_is_meant_is_known_until_it_came_to_be(self, records):
        for key in KEYS[:2]:
            records.intends(0, key, "copy", "new")
        assert set(await records.intended(0)) == set(KEYS[:2])
        await records.save([record(KEYS[0])])
        assert set(await records.intended(0)) == {KEYS[1]}

    async def test_what_is_set_aside_is_journalled_before_and_kept_after(self, records):
        aside = Aside(0, "target", KEYS[0], b"aside/00", 9, "was")
        await records.before([aside], [(0, Row(KEYS[1], "here", "there"))])
        assert [a.at for a in await records.meant(0)] == [b"aside/00"]
        assert await remembered(records) == {KEYS[1]}
        await records.save([record(KEYS[0], "remove", row=None, kept="kept")])
        assert await records.meant(0) == []

    async def test_an_upload_is_taken_up_by_its_token_alone(self, records):
        uploads = records.uploads(0, "target")
        assert await uploads.begun(KEYS[0], "token", "2026-03-02T00:00:00+00:00") == ""
        await uploads.named(KEYS[0], "id-1")
        assert await uploads.begun(KEYS[0], "token", "2026-03-03T00:00:00+00:00") == "id-1"
        assert await uploads.begun(KEYS[0], "other", "2026-03-03T00:00:00+00:00") == ""
        left = await records.uploads_left()
        assert [(store, key) for store, key, _ in left] == [("office", KEYS[0])]
        await uploads.over(KEYS[0])  # begun twice: one may be left
        assert len(await records.uploads_left()) == 1
        await records.upload_cleared("office", KEYS[0])
        assert await records.uploads_left() == []

    async def test_uploads_of_one_name_at_two_stores_are_two(self, records):
        here, there = (records.uploads(0, side) for side in ("source", "target"))
        for uploads in (here, there):
            assert await uploads.begun(KEYS[0], "token", "2026-03-02T00:00:00+00:00") == ""
        await there.named(KEYS[0], "id-there")
        assert await here.begun(KEYS[0], "token", "2026-03-02T00:00:00+00:00") == ""
        await there.over(KEYS[0])
        await records.upload_cleared("office", KEYS[0])
        assert [store for store, _, _ in await records.uploads_left()] == ["posts"]
        await records.upload_cleared("posts", KEYS[0])
        assert await records.uploads_left() == []
