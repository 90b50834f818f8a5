"""What lies in a place, held against a plain count of the same files."""

from __future__ import annotations

from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from pinecart.core.inventory import DAY_NS, KEPT, MOST_LARGEST, MOST_TOLD, Inventory

NOW = 1_800_000_000 * 10**9
parts = st.sampled_from(["a", "b", "a-", "a.csv", "c.FLAC", "d.tar.gz", ".hidden", "e."])
keys = st.lists(parts, min_size=1, max_size=5).map(lambda names: "/".join(names).encode())


@given(files=st.dictionaries(keys, st.integers(0, 10**12), max_size=40))
def test_folders_kinds_and_ages_come_to_what_lies_there(files):
    inventory = Inventory(NOW)
    for n, (key, size) in enumerate(sorted(files.items())):
        inventory.add(key, size, NOW - n * DAY_NS if n % 3 else None)
    told = inventory.told()
    objects, total = Counter(), Counter()
    for key, size in files.items():
        folders = key.split(b"/")[:-1][: len(KEPT)]
        for n in range(len(folders) + 1):
            prefix = b"".join(name + b"/" for name in folders[:n]).decode()
            objects[prefix] += 1
            total[prefix] += size
    found = {one["key"]: (one["objects"], one["bytes"]) for one in told["folders"]}
    assert found == {key: (n, total[key]) for key, n in objects.items()} or not files
    assert found[""] == (len(files), sum(files.values()))
    for sums in (told["ages"], told["kinds"]):
        assert sum(one["objects"] for one in sums) == len(files)
        assert sum(one["bytes"] for one in sums) == sum(files.values())
    largest = sorted(files.values(), reverse=True)[:MOST_LARGEST]
    assert [one["bytes"] for one in told["largest"]] == largest


def test_of_very_many_folders_the_largest_are_told_and_the_others_together():
    inventory = Inventory(NOW)
    sizes = {n: (n * 7919) % 10_007 + 1 for n in range(5000)}
    for n, size in sizes.items():
        inventory.add(b"%05d/x.csv" % n, size, NOW)
    place, *inner = inventory.told()["folders"]
    most = KEPT[0]
    assert (
        sorted((one["bytes"] for one in inner), reverse=True)
        == sorted(sizes.values())[: -most - 1 : -1]
    )
    kept = sum(one["bytes"] for one in inner)
    assert place["others"] == [5000 - most, 5000 - most, sum(sizes.values()) - kept]
    assert place["bytes"] == sum(sizes.values())


def test_what_is_told_has_an_end_however_deep_and_wide_it_is():
    inventory = Inventory(NOW)
    for a in range(40):
        for b in range(30):
            for c in range(20):
                inventory.add(b"%02d/%02d/%02d/x" % (a, b, c), a * b * c + 1, NOW)
    told = inventory.told()
    place, *folders = told["folders"]
    assert MOST_TOLD - 1000 < len(folders) <= MOST_TOLD
    second = [one for one in folders if one["key"].count("/") == 2]
    assert len(second) == 40 * 30
    for one in second:
        inner = [f for f in folders if f["key"].startswith(one["key"]) and f is not one]
        assert sum(f["bytes"] for f in inner) + one["others"][2] == one["bytes"]
        assert len(inner) + one["others"][0] == 20
    assert place["objects"] == 40 * 30 * 20


def test_ages_are_told_from_now():
    inventory = Inventory(NOW)
    for n, days in enumerate((0.5, 5, 20, 80, 300, 900, 4000)):
        inventory.add(b"%d" % n, 1, int(NOW - days * DAY_NS))
    inventory.add(b"x", 1, None)
    assert [one["name"] for one in inventory.told()["ages"]] == [
        "a day",
        "a week",
        "a month",
        "three months",
        "a year",
        "three years",
        "older",
        "unknown",
    ]
