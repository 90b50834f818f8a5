"""Removals, held runs, undo, pause and retry, as people meet them: through the command line and the
network interface.
"""

from __future__ import annotations

import os

import pytest

from pinecart.client import ClientError
from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.house import house, until
from tests.whole.test_runs import held as in_bucket

SHEETS = {f"sheets/{n:03}.csv": b"count,%d\n" % n for n in range(40)}
MIRROR = {"intent": "mirror"}


def names(root):
    return sorted(p.name for p in root.iterdir() if p.is_file())


def theirs(house, bucket):
    return {
        k: v for k, v in in_bucket(house, bucket).items() if not k.startswith(".pinecart-aside/")
    }


def test_a_held_mirror_is_released_by_its_list_and_undone(shared):
    root, job = shared.fresh_job("exact", SHEETS, **MIRROR)
    assert shared.carried(job)["outcome"] == "clean"
    before = theirs(shared, "exact")
    for n in range(12):
        (root / f"sheets/{n:03}.csv").unlink()
    (root / "sheets/new.csv").write_bytes(b"new")
    seen = shared.run("preview", job).stdout
    assert "remove 12" in seen and "It would wait for your yes: 12 files would be removed" in seen
    done = shared.run("start", job, "--follow")
    run = shared.json("run", "list", "--job", job)[0]
    assert (
        done.returncode == 3
        and "◆ waiting for your yes" in done.stdout
        and "12 files would be removed" in done.stdout
    )
    assert (run["state"], run["totals"]["copy"]["objects"]) == ("held", 1)
    assert len(shared.json("run", "objects", str(run["id"]), "--held")) == 12
    assert shared.json()["needed"][0]["id"] == run["id"]
    with shared.client() as cart:
        with pytest.raises(ClientError) as caught:
            cart.release(run["id"], "another-digest")
        assert caught.value.code == "run.other-list"
    (root / "sheets/012.csv").unlink()
    again = shared.run(
        "run", "release", str(run["id"]), "--digest", run["held"]["digest"], "--follow"
    )
    assert (
        again.returncode == 3 and "13 files would be removed" in again.stdout
    )  # not the list that was seen
    digest = shared.json("run", "show", str(run["id"]))["held"]["digest"]
    done = shared.run(
        "run", "release", str(run["id"]), "--digest", digest, "--why", "season over", "--follow"
    )
    assert done.returncode == 0 and "13 removed" in done.stdout
    assert len(theirs(shared, "exact")) == 28
    assert "season over" in str(shared.json("trail", "list"))
    shown = shared.run("run", "undo", str(run["id"]), "--preview")
    assert "would bring back 13, remove 1" in shown.stdout and len(theirs(shared, "exact")) == 28
    undone = shared.run("run", "undo", str(run["id"]), "--yes")
    assert (
        undone.returncode == 0
        and f"run {run['id']} undone: 13 brought back, 1 removed" in undone.stdout
    )
    assert theirs(shared, "exact") == before


def test_declined_and_overdue_holds_end_without_acting(shared):
    root, job = shared.fresh_job("declined", SHEETS, **MIRROR)
    shared.carried(job)
    for file in (root / "sheets").iterdir():
        file.unlink()
    run = shared.carried(job)
    assert "source is empty" in run["held"]["lists"][0]["message"]
    done = shared.run("run", "decline", str(run["id"]), "--why", "disk not mounted")
    assert done.returncode == 0 and len(theirs(shared, "declined")) == 40
    assert "disk not mounted" in shared.run("run", "show", str(run["id"])).stdout + str(
        shared.client().run(run["id"])
    )
    run = shared.carried(job)
    shared.sql("UPDATE runs_run SET held_at = '2020-01-01 00:00:00' WHERE id = ?", run["id"])
    with shared.client() as cart:
        ended = until(
            lambda: (r := cart.run(run["id"]))["state"] == "ended" and r,
            what="the hold to end by itself",
        )
    assert (
        ended["outcome"] == "stopped"
        and "7 days" in ended["message"]
        and len(theirs(shared, "declined")) == 40
    )


def test_remove_lists_asks_sets_aside_and_is_cleared_away_at_last(shared):
    shared.standin.shelf.make("attic")
    for n in range(15):
        shared.standin.shelf.put("attic", f"old/{n}", b"x" * n, {})
        shared.standin.shelf.put("attic", f"old-season/{n}", b"x", {})
    seen = shared.run("remove", "pine://office/attic/old", "--preview")
    assert seen.returncode == 0 and "would copy 0, replace 0, remove 15" in seen.stdout
    asked = shared.run("remove", "pine://office/attic/old")
    assert (
        asked.returncode == 3
        and "15 files would be removed" in asked.stderr
        and len(theirs(shared, "attic")) == 30
    )
    done = shared.run("remove", "pine://office/attic/old", "--yes")
    assert done.returncode == 0 and "15 removed" in done.stdout and "run undo" in done.stderr
    assert {k.split("/")[0] for k in theirs(shared, "attic")} == {"old-season"}
    run = shared.json("run", "list", "--job", "remove")[0]["id"]
    assert len(in_bucket(shared, "attic")) == 30
    shared.sql("UPDATE runs_asiderow SET until = '2020-01-01' WHERE run_id = ?", run)
    until(
        lambda: len(in_bucket(shared, "attic")) == 15, what="what was set aside to be cleared away"
    )
    one = shared.run(
        "--json", "remove", "pine://office/attic/old-season/3", "--yes", "--set-aside", "0"
    )
    assert one.returncode == 0 and len(in_bucket(shared, "attic")) == 14


def test_removing_needs_more_than_the_right_to_operate(shared):
    shared.standin.shelf.make("attic-too")
    shared.standin.shelf.put("attic-too", "old/1", b"x", {})
    token = shared.person("olga", "operate")
    with shared.client(token) as cart, pytest.raises(ClientError, match="define"):
        cart.remove("pine://office/attic-too/old/")
    with shared.client(token) as cart, pytest.raises(ClientError, match="define"):
        cart.carry(
            "pine://office/attic-too/old/", "pine://office/attic-too/new/", intent="hand-over"
        )


def test_no_other_way_removes_for_whoever_may_only_operate(shared):
    shared.standin.shelf.make("attic-three")
    for n in (1, 2):
        shared.standin.shelf.put("attic-three", f"old/{n}", b"x", {})
    with shared.client() as cart:
        held = cart.remove("pine://office/attic-three/old/1", set_aside=0)["run"]
        until(lambda: cart.run(held["id"])["state"] == "held", what="the list")
        declined = cart.remove("pine://office/attic-three/old/2", set_aside=0)["run"]
        until(lambda: cart.run(declined["id"])["state"] == "held", what="the list")
        cart.decline(declined["id"])
        digest = cart.run(held["id"])["held"]["digest"]
        with pytest.raises(ClientError) as caught:  # not an intent of this call's, whoever asks
            cart.carry(
                "pine://office/attic-three/old/",
                "pine://office/attic-three/old/",
                intent="remove",
                set_aside=0,
            )
        assert "remove" in str(caught.value.problems)
    with shared.client(shared.person("oskar", "operate")) as cart:
        for attempt in (
            lambda: cart.carry(
                "pine://office/attic-three/old/", "pine://office/attic-three/old/", intent="remove"
            ),
            lambda: cart.release(held["id"], digest),
            lambda: cart.retry(declined["id"]),
        ):
            with pytest.raises(ClientError):
                attempt()
        cart.decline(held["id"])  # to say no is enough with less
    assert len(in_bucket(shared, "attic-three")) == 2


def test_a_run_pauses_goes_on_and_is_tried_again(shared):
    _, job = shared.fresh_job("pausing", SHEETS)
    shared.standin.behaviour["put"] = Behaviour(delay_s=3, match="csv")
    with shared.client() as cart:
        run = cart.start(job)["id"]
        until(lambda: cart.run(run)["totals"]["copy"]["objects"] or in_bucket(shared, "pausing"))
        shared.run("run", "pause", str(run))
        until(lambda: cart.run(run)["state"] == "paused", what="the run to pause")
        there = len(in_bucket(shared, "pausing"))
        assert 0 < there < 40
        shared.standin.behaviour["put"] = Behaviour(fail="AccessDenied", match="039.csv")
        done = shared.run("run", "resume", str(run), "--follow")
        assert done.returncode == 1 and cart.run(run)["totals"]["copy"]["objects"] == 39
        shared.standin.behaviour.pop("put")
        again = shared.run("--json", "run", "retry", str(run), "--follow")
        assert again.returncode == 0 and cart.runs(job=job)[0]["totals"]["copy"]["objects"] == 1
        with pytest.raises(ClientError):
            cart.resume(run)


def test_refused_credentials_hold_a_run_until_there_are_new_ones(shared):
    _, job = shared.fresh_job("keyless", SHEETS)
    with shared.client() as cart:
        cart.change_store("office", {"key_id": "LARKFELLKEY", "secret": "not-it", "untried": True})
        run = shared.carried(job)
        assert (run["state"], run["code"]) == ("held", "store.secret-wrong")
        cart.change_store("office", {"key_id": "LARKFELLKEY", "secret": "a-made-up-secret"})
        cart.release(run["id"], run["held"]["digest"] if run["held"] else "")
        until(lambda: cart.run(run["id"])["state"] == "ended")
        assert cart.run(run["id"])["outcome"] == "clean", cart.run(run["id"])


def test_places_that_would_remove_each_others_files_are_refused_when_saved(shared):
    shared.fresh_job("keeper", {"x": b"1"}, **MIRROR)
    with shared.client() as cart:
        for to, intent, code in (
            ("pine://office/keeper/in/deeper/", "renew", "job.mirror-overlaps"),
            ("pine://office/keeper/", "mirror", "job.mirror-overlaps"),
            ("pine://office/elsewhere/", "hand-over", "job.source-shared"),
        ):
            with pytest.raises(ClientError) as caught:
                leg = {"from": "pine://keeper/", "to": to}
                cart.define_job({"job": "other", "legs": [leg], "intent": intent})
            assert caught.value.code == code


def test_a_move_waits_for_another_job_that_takes_from_the_same_place(tmp_path):
    with house(tmp_path, "--settle-s", "0") as home:
        root, move = home.fresh_job("leaving", {"a.csv": b"1", "b.tmp": b"2", "c.csv": b"3"})
        for path in root.rglob("*"):
            os.utime(path, (1, 1))
        legs = [{"from": "pine://leaving/", "to": "pine://office/leaving/in/"}]
        second = {
            "job": "seconds",
            "legs": [
                {
                    "from": "pine://leaving/",
                    "to": "pine://office/leaving/two/",
                    "leave_out": ["*.tmp"],
                }
            ],
        }
        with home.client() as cart:
            cart.define_job(second)
            with pytest.raises(ClientError) as caught:
                cart.change_job("leaving", {"job": move, "legs": legs, "intent": "hand-over"})
            assert caught.value.code == "job.source-shared" and "waits_for" in str(caught.value)
            told = cart.change_job(
                "leaving",
                {"job": move, "legs": legs, "intent": "hand-over", "waits_for": ["seconds"]},
            )
            assert any("once seconds took it" in s for s in told["sentences"])
            with pytest.raises(ClientError) as caught:
                cart.change_job("seconds", second | {"intent": "mirror"})
            assert caught.value.code == "job.cant-be-awaited"
            run = home.carried(move)
            assert run["totals"]["copy"]["objects"] == 3 and names(root) == ["a.csv", "c.csv"]
            assert run["totals"]["leave"]["objects"] == 2 and run["outcome"] == "clean"
            assert home.carried("seconds")["outcome"] == "clean"
            (root / "c.csv").write_bytes(b"changed since")
            os.utime(root / "c.csv", (1, 1))
            run = home.carried(move)
            assert run["totals"]["clear"]["objects"] == 1 and names(root) == ["c.csv"]
            cart.drop_job("seconds")
            assert home.carried(move)["state"] == "ended" and (root / "c.csv").exists()


def test_with_too_little_disk_nothing_starts_and_it_is_said(tmp_path):
    with house(tmp_path, "--least-free", str(1 << 60)) as poor:
        _, job = poor.fresh_job("waiting", {"a": b"1"})
        with poor.client() as cart:
            run = cart.start(job)["id"]
            until(
                lambda: "of disk are free" in cart.run(run)["message"],
                what="the reason why it waits",
            )
            assert cart.run(run)["state"] == "queued"
