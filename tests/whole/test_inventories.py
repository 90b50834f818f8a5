"""What lies in a place, by API and command line; a place that isn't there, and one of others."""

from __future__ import annotations

import json

import pytest

from pinecart.client.errors import ClientError
from tests.whole.house import until


def ended(cart, run):
    return until(lambda: (t := cart.inventory(run["id"]))["state"] == "ended" and t)


def test_an_inventory_tells_what_lies_there_and_is_entered_folder_by_folder(shared):
    files = {f"posts/brockwen/{n}.flac": b"x" * 100 * n for n in range(6)}
    files |= {f"posts/ravenscar/{n}.csv": b"y" * 10 for n in range(4)}
    root = shared.fresh_store("counted", files | {"readme": b"z"})
    (root / "empty").mkdir()
    told = json.loads(shared.run("--json", "inventory", "pine://counted/").stdout)
    assert told["sentence"] == "11 files, 1.5 KiB in pine://counted/."
    assert (told["outcome"], told["folder"]["objects"]) == ("clean", 11)
    assert [(one["key"], one["objects"], one["bytes"]) for one in told["inside"]] == [
        ("posts/", 10, 1540)
    ]
    assert {one["name"]: one["objects"] for one in told["kinds"]} == {
        "flac": 6,
        "csv": 4,
        "none": 1,
    }
    assert told["largest"][0]["key"] == "posts/brockwen/5.flac"
    assert [(one["name"], one["objects"]) for one in told["ages"]] == [("older", 11)]
    with shared.client() as cart:
        inner = cart.inventory(told["id"], told["inside"][0]["key_id"])
        assert [one["key"] for one in inner["inside"]] == ["posts/brockwen/", "posts/ravenscar/"]
        with pytest.raises(ClientError, match="Take one of that folder"):
            cart.inventory(told["id"], "nowhere/")
        assert cart.inventories()[0]["id"] == told["id"]
        shared.standin.shelf.make("counted-b")
        for n in range(1500):
            shared.standin.shelf.put("counted-b", f"{n % 7}/{n}", b"1", {})
        run = cart.take_inventory("pine://office/counted-b/")
        assert ended(cart, run)["folder"]["objects"] == 1500
        gone = ended(cart, cart.take_inventory("pine://counted/gone/"))
        assert (gone["outcome"], gone["folder"]) == ("failed", None)
    shown = shared.run("inventory", str(told["id"]))
    assert "posts/" in shown.stdout and "flac" in shown.stdout and not shown.returncode
    assert "posts/brockwen/5.flac" in shared.run("inventory", str(told["id"]), "--largest").stdout


def test_a_job_may_be_called_so_and_stays_one(shared):
    shared.fresh_job("inventory", {"a": b"1"})
    assert shared.carried("inventory")["totals"]["copy"]["objects"] == 1
    with shared.client() as cart:
        ended(cart, cart.take_inventory("pine://inventory/"))
        assert [run["kind"] for run in cart.runs(job="inventory")] == ["transfer"]
        assert cart.job("inventory")["sentences"]


def test_what_is_not_ones_own_is_not_counted(shared):
    shared.fresh_store("counted-by-others", {"a": b"1"})
    with shared.client() as cart:
        run = cart.take_inventory("pine://counted-by-others/")
        ended(cart, run)
    with shared.client(shared.person("counter", "operate", "of-counters")) as cart:
        for refused in (
            lambda: cart.inventory(run["id"]),
            lambda: cart.take_inventory("pine://counted-by-others/"),
        ):
            with pytest.raises(ClientError, match="There is no"):
                refused()
        assert cart.inventories() == []
