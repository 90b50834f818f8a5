"""One-off transfers: what two places mean, in every direction, and kept as a job."""

from __future__ import annotations

import json
import os

import pytest

from pinecart.client import ClientError
from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.test_runs import FILES, held


@pytest.fixture(scope="module")
def places(shared):
    """A folder store and a bucket to carry between."""
    root = shared.fresh_store(
        "carrier", FILES | {"notes": b"a file", "notes-old/x": b"1", "both": b"file"}
    )
    shared.standin.shelf.make("carried")
    shared.standin.shelf.put("carried", "both", b"file", {})
    shared.standin.shelf.put("carried", "both/inner", b"inner", {})
    return root


def carried(shared, source, target, *words):
    done = shared.run("--json", "carry", source, target, *words)
    return json.loads(done.stdout) if done.stdout else done


@pytest.mark.parametrize(
    ("source", "target", "wanted"),
    [
        (
            "pine://carrier/posts/brockwen/",
            "pine://office/carried/a",
            {f"a/{n:02}.flac" for n in range(10)},
        ),
        (
            "pine://carrier/posts/brockwen",
            "pine://office/carried/b/",
            {f"b/{n:02}.flac" for n in range(10)},
        ),
        ("pine://carrier/notes", "pine://office/carried/c/", {"c/notes"}),
        ("pine://carrier/notes", "pine://office/carried/d/renamed.txt", {"d/renamed.txt"}),
        ("pine://carrier/notes", "pine://office/carried", {"notes"}),
        ("pine://carrier/a b/é+%#?.csv", "pine://office/carried/e/", {"e/é+%#?.csv"}),
    ],
)
def test_into_and_as(shared, places, source, target, wanted):
    before = set(shared.standin.shelf.buckets["carried"])
    run = carried(shared, source, target)
    assert (run["outcome"], set(held(shared, "carried")) - before) == ("clean", wanted)
    assert carried(shared, source, target)["outcome"] == "nothing-to-do"


def test_what_could_mean_two_things_or_nothing_is_refused_and_nothing_started(shared, places):
    with shared.client() as cart:
        before = len(cart.runs(job="carry"))
        for source, code in (
            ("pine://office/carried/both", "location.ambiguous"),
            ("pine://carrier/nowhere", "location.nothing"),
            ("pine://carier/x", "store.unknown"),
        ):
            with pytest.raises(ClientError) as caught:
                cart.carry(source, "pine://office/carried/z/")
            assert caught.value.code == code
        with pytest.raises(ClientError, match="copy a place into itself"):
            cart.carry("pine://carrier/posts/", "pine://carrier/posts/aldermurr/")
        assert len(cart.runs(job="carry")) == before


def test_a_store_that_refuses_the_key_is_not_told_as_nothing_there(shared, places):
    with shared.client() as cart:
        cart.add_store(
            {
                "name": "locked",
                "kind": "s3",
                "endpoint": shared.endpoint,
                "key_id": "NOBODY",
                "secret": "x",
            }
        )
        with pytest.raises(ClientError) as caught:
            cart.carry("pine://locked/carried/notes", "pine://office/carried/z/")
    assert caught.value.code == "store.key-unknown"


def test_a_preview_shows_both_names_and_starts_nothing(shared, places):
    done = shared.run(
        "carry",
        "pine://carrier/posts/",
        "pine://office/carried/p/",
        "--preview",
        "--take",
        "03.flac",
        "--rename-to",
        "{name}-x{ending}",
    )
    assert done.returncode == 0 and "would copy" in done.stdout and "refuse" in done.stdout
    told = shared.run(
        "carry",
        "pine://carrier/posts/aldermurr/",
        "pine://office/carried/p/",
        "--preview",
        "--rename-to",
        "x-{name}{ending}",
    )
    assert "x-03.flac (from 03.flac)" in told.stdout
    assert (
        "For example pine://carrier/posts/aldermurr/03.flac → pine://office/carried/p/03-x.flac"
        in done.stderr
    )
    assert not [k for k in held(shared, "carried") if k.startswith("p/")]


def test_rules_take_what_they_say_and_each_is_counted(shared, places):
    run = carried(
        shared,
        "pine://carrier/posts/",
        "pine://office/carried/r/",
        "--larger-than",
        "200",
        "--leave-out",
        "brockwen/**",
        "--until",
        "2024-01-01",
    )
    keys = {k for k in held(shared, "carried") if k.startswith("r/")}
    assert keys == {f"r/aldermurr/{n:02}.flac" for n in (6, 7, 8, 9)}
    assert run["reasons"]["leave left-out"] == 10 and run["reasons"]["leave other-size"] == 6


def test_in_every_direction_and_by_a_path_of_this_machine(shared, places, tmp_path):
    back = shared.fresh_store("carried-back", {"mine": b"1"})
    assert (
        carried(shared, "pine://office/carried/both/", "pine://carried-back/in/")["totals"]["copy"][
            "objects"
        ]
        == 1
    )
    assert (back / "in/inner").read_bytes() == b"inner"
    run = carried(shared, f"'{places}/posts/aldermurr'", f"{back}/twice/")
    assert (
        run["totals"]["copy"]["objects"] == 10
        and (back / "twice/09.flac").read_bytes() == FILES["posts/aldermurr/09.flac"]
    )
    assert os.stat(back / "twice/09.flac").st_mtime == 1_700_000_000
    done = shared.run("carry", str(tmp_path), "pine://office/carried/no/")
    assert (
        done.returncode == 2
        and f"pinecart store add NAME --kind folder --path {tmp_path}" in done.stderr
    )


def test_a_copy_that_failed_is_told_today_until_it_worked(shared, places):
    with shared.behaving(put=Behaviour(fail="AccessDenied", match="today/")):
        assert (
            carried(shared, "pine://carrier/notes", "pine://office/carried/today/")["outcome"]
            == "problems"
        )
    with shared.client() as cart:
        assert "pine://office/carried/today/notes" in [
            r["legs"][0]["to"] for r in cart.today()["needed"]
        ]
        assert (
            carried(shared, "pine://carrier/notes", "pine://office/carried/today/")["outcome"]
            == "clean"
        )
        assert "pine://office/carried/today/notes" not in [
            r["legs"][0]["to"] for r in cart.today()["needed"]
        ]


def test_a_carry_is_kept_as_a_job(shared, places):
    run = carried(shared, "pine://carrier/notes-old/", "pine://office/carried/kept/", "--take", "x")
    assert shared.run("run", "keep", str(run["id"]), "kept-carry").returncode == 0
    assert shared.json("job", "show", "kept-carry")["definition"]["legs"][0]["take"] == ["x"]
    again = shared.carried("kept-carry")
    assert (again["outcome"], again["reasons"]) == ("nothing-to-do", {"leave recognised": 1})
    with shared.client() as cart, pytest.raises(ClientError, match="belongs to the job"):
        cart.keep(again["id"], "other")
    with shared.client() as cart, pytest.raises(ClientError, match="Choose another name"):
        cart.define_job(
            {"job": "carry", "legs": [{"from": "pine://carrier/a/", "to": "pine://office/b/"}]}
        )
