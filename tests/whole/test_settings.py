"""What holds for the whole service: named values, limits; and whose turn it is."""

from __future__ import annotations

import pytest

from pinecart.client import ClientError
from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.house import until


def test_a_place_has_the_values_of_the_job_or_else_of_the_service(shared):
    shared.fresh_job("valued", {"north-fell/2026/a": b"1", "b": b"2"})
    with shared.client() as cart:
        done = shared.run("settings", "change", "--value", "site=north-fell", "--value", "lens=200")
        assert "{site} is north-fell" in done.stdout
        definition = cart.job("valued")["definition"]
        leg = {"from": "pine://valued/{site}/{when}/", "to": "pine://office/valued/{lens}/{nope}/"}
        given = definition | {"legs": [leg], "values": ["when=2026", "lens=600"]}
        cart.change_job("valued", given)
        found = cart.look_over_job(given)["findings"]
        assert [(f["code"], f["field"]) for f in found] == [("job.no-value", "values")]
        assert "{nope}" in found[0]["message"]
        number = cart.start_preview("valued")["id"]
        for _ in cart.follow(number):
            pass
        (place,) = cart.preview(number)["legs"]
        assert place == {
            "from": "pine://valued/north-fell/2026/",
            "to": "pine://office/valued/600/{nope}/",
        }
        assert shared.carried("valued")["totals"]["copy"]["objects"] == 1
        with pytest.raises(ClientError, match="and neither begins") as caught:
            cart.change_settings({"values": ["site=../", "x={y}"]})
        assert len(caught.value.problems) == 2
        shared.run("settings", "change", "--forget", "site", "--forget", "lens")
        assert cart.settings()["values"] == {}
        assert cart.trail(what="settings.changed")[0]["facts"]["after"]["values"] == {}


def test_the_services_limits_hold_where_a_job_has_none_of_its_own(shared):
    files = {f"{n:02}": b"1" for n in range(30)}
    root, _ = shared.fresh_job("limited", files, intent="mirror")
    shared.carried("limited")
    with shared.client() as cart:
        assert cart.settings()["guards"]["removals"] == 100
        shared.run("settings", "change", "--limit", "removals=1", "--limit", "removals_percent=50")
        (root / "00").unlink()
        (root / "01").unlink()
        run = cart.start("limited")["id"]
        held = until(lambda: (told := cart.run(run))["state"] == "held" and told)
        assert "more than the limit of 1" in held["held"]["lists"][0]["message"]
        cart.decline(run, why="a test")
        definition = cart.job("limited")["definition"]
        cart.change_job("limited", definition | {"guards": {"removals": 2}})
        assert shared.carried("limited")["totals"]["remove"]["objects"] == 2
        cart.change_settings({"guards": {}})
        assert cart.settings()["guards"]["removals_percent"] == 10


def test_a_store_bears_so_many_runs_at_once_and_the_urgent_ones_go_first(shared):
    for name, priority in (("turn-a", "usual"), ("turn-b", "usual"), ("turn-c", "first")):
        shared.fresh_job(name, {"a": b"1"}, priority=priority)
    with shared.client() as cart:
        cart.change_store("office", {"runs_at_once": 1})
        try:
            with shared.behaving(put=Behaviour(delay_s=5)):
                first = cart.start("turn-a")["id"]
                until(lambda: cart.run(first)["state"] == "working")
                usual, urgent = cart.start("turn-b")["id"], cart.start("turn-c")["id"]
                told = until(lambda: cart.run(urgent)["message"])
                assert told == f"Waits for run {first}: the store office takes 1 run at once."
                cart.stop(first)
            ended = [cart.run(n) for n in (urgent, usual) if [*cart.follow(n)]]
            assert ended[0]["ended_at"] < ended[1]["started_at"], "the urgent one went first"
        finally:
            cart.change_store("office", {"runs_at_once": None})


def test_places_that_lie_in_one_another_once_they_are_filled_in_start_nothing(shared):
    shared.fresh_store("filled-in", {"a/file": b"1"})
    leg = {"from": "pine://filled-in/{here}/", "to": "pine://filled-in/{there}/below/"}
    values = ["here=a", "there=a"]
    with shared.client() as cart:
        cart.define_job({"job": "filled-in", "legs": [leg], "values": values})
        with pytest.raises(ClientError, match="can't copy a place into itself") as caught:
            cart.start("filled-in")
        assert caught.value.code == "job.inside-itself"
        definition = cart.job("filled-in")["definition"]
        every_minute = {"cron": "* * * * *", "zone": "UTC"}
        cart.change_job("filled-in", definition | {"schedule": every_minute})
        shared.sql("update jobs_jobrecord set next_due='2026-03-02' where name='filled-in'")

        def skipped():
            runs = cart.runs(job="filled-in")
            return runs and runs[0]["outcome"] == "skipped" and runs[0]["message"]

        assert "into itself" in until(skipped, what="the clock to say why")
        cart.drop_job("filled-in")
