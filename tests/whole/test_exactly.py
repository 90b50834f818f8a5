"""A preview, carried out exactly as it was seen."""

from __future__ import annotations

import json

import pytest

from pinecart.client import ClientError


def previewed(house, job, **part):
    with house.client() as cart:
        number = cart.start_preview(job, **part)["id"]
        for _ in cart.follow(number):
            pass
        return number


def carried_out(house, preview):
    done = house.run("run", "exactly", str(preview), "--follow", "--json")
    assert done.stdout, done.stderr
    run = json.loads(done.stdout)
    with house.client() as cart:
        if run["state"] == "held":  # guards are asked all the same
            cart.release(run["id"], run["held"]["digest"])
            for _ in cart.follow(run["id"]):
                pass
            run = cart.run(run["id"])
        return run, {row["key"]: row for row in cart.objects(run["id"])}


def test_only_what_is_still_as_the_preview_saw_it_is_done(shared):
    files = dict.fromkeys(("same", "new", "grown", "gone", "there"), b"1")
    root, bucket = shared.fresh_job(
        "exact-whole", files, intent="mirror", guards={"removals_percent": 100}
    )
    for name in ("new", "grown", "gone", "there"):
        (root / name).rename(root.parent / f"exactly-{name}")
    shared.carried("exact-whole")
    for name in ("new", "grown", "gone", "there"):
        (root.parent / f"exactly-{name}").rename(root / name)
    with shared.client() as cart:
        cart.upload("office", f"{bucket}/in/to-remove", b"r")
        cart.upload("office", f"{bucket}/in/to-keep", b"k")
        preview = previewed(shared, "exact-whole")
        (root / "grown").write_bytes(b"grown since")
        (root / "gone").unlink()
        (root / "later").write_bytes(b"new since")
        cart.upload("office", f"{bucket}/in/there", b"somebody else's")
        shared.standin.shelf.delete(bucket, "in/to-keep")
        cart.upload("office", f"{bucket}/in/to-keep", b"another")
    run, objects = carried_out(shared, preview)
    did = {key: (row["decision"], row["reason"]) for key, row in objects.items()}
    assert did == {
        "new": ("copy", "new"),
        "to-remove": ("remove", "foreign"),
        "grown": ("leave", "overtaken"),
        "gone": ("leave", "overtaken"),
        "there": ("leave", "overtaken"),
        "to-keep": ("leave", "overtaken"),
    }
    assert run["outcome"] == "clean" and "4 overtaken" in run["sentence"]
    assert "1 left for a whole run" in run["sentence"], "what came since is told"
    assert f"only what preview {preview} found" in run["cause"]


def test_a_preview_of_another_definition_or_of_a_part_is_kept_to(shared):
    shared.fresh_job("exact-part", {"a": b"1", "b": b"2"})
    preview = previewed(shared, "exact-part", only=["a"])
    with shared.client() as cart:
        run, objects = carried_out(shared, preview)
        assert set(objects) == {"a"} and run["totals"]["copy"]["objects"] == 1
        older = previewed(shared, "exact-part")
        definition = cart.job("exact-part")["definition"]
        cart.change_job("exact-part", definition | {"why": "another"})
        with pytest.raises(ClientError, match="was changed since") as caught:
            cart.start_exactly(older)
        assert caught.value.code == "preview.outdated"
        with pytest.raises(ClientError):
            cart.start_exactly(run["id"])
        carry = cart.carry("pine://exact-part/", "pine://office/exact-part/c/", preview=True)
        for _ in cart.follow(carry["run"]["id"]):
            pass
        run, objects = carried_out(shared, carry["run"]["id"])
        assert set(objects) == {"a", "b"} and run["job"] == "carry"
