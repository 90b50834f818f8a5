"""What starts jobs besides the clock: changes at their source, and calls from outside."""

from __future__ import annotations

import os
import signal
import subprocess
import time

import pytest

from pinecart.client import ClientError
from tests.whole.house import PINECART, asked, parts_of, until

AT_CHANGES = {"kind": "changes", "settled": 2, "look": 5}


def runs_of(house, job):
    with house.client() as cart:
        return [run for run in cart.runs(job=job) if run["kind"] == "transfer"]


def ended(house, job, count):
    def are_ended():
        found = runs_of(house, job)
        return found if len(found) >= count and all(r["state"] == "ended" for r in found) else None

    return until(are_ended, what=f"{count} runs of {job}")


def there(house, bucket):
    return house.standin.shelf.keys_after(bucket, "")


def test_a_burst_of_growing_files_becomes_one_run_and_each_is_carried_whole(shared):
    root, _ = shared.fresh_job("burst", {"first": b"1"}, schedule=AT_CHANGES)
    ended(shared, "burst", 1)
    files = [open(root / f"grows-{n}", "wb", buffering=0) for n in range(200)]  # noqa: SIM115
    for _ in range(6):
        for file in files:
            file.write(b"x" * 1000)
        shared.works_on_for(0.5)  # it grows while it is looked at
    for file in files:
        file.close()
    found = ended(shared, "burst", 2)
    assert len(found) == 2 and "200 files are new" in found[0]["cause"]
    assert found[0]["totals"]["copy"] == {"objects": 200, "bytes": 200 * 6000}
    with shared.client() as cart:
        (told,) = cart.triggers(job="burst")
        assert (told["run"], told["noticed"], told["runs"]) == (found[0]["id"], 200, 2)
        assert told["looked_at"] and "tells of changes" in told["how"]
        cart.drop_job("burst")


def test_a_file_that_still_grows_waits_and_is_told(shared):
    root, _ = shared.fresh_job("grower", {}, schedule=AT_CHANGES)
    with shared.client() as cart, open(root / "long", "wb", buffering=0) as file:
        (root / "whole").write_bytes(b"w")
        os.utime(root / "whole", (1_700_000_000, 1_700_000_000))

        def waits():
            file.write(b"x")
            (told,) = cart.triggers(job="grower")
            return told if told["run"] and told["growing"] else None

        told = until(waits, what="one file carried and one that waits")
        assert "still growing" in told["waits"]
        (run,) = ended(shared, "grower", 1)
        assert run["totals"]["copy"]["objects"] == 1
        assert "grower" in shared.run("trigger", "list").stdout
        assert "Last looked" in shared.run("trigger", "show", "grower").stdout
    assert ended(shared, "grower", 2)[0]["totals"]["copy"]["objects"] == 1
    shared.run("job", "change", "grower", "--cron", "daily 05:30")
    shared.run("job", "change", "grower", "--settled", "7")
    with shared.client() as cart:
        schedule = cart.job("grower")["definition"]["schedule"]
        assert schedule == {"kind": "changes", "settled": 7, "look": 60}
        cart.drop_job("grower")


def test_the_watcher_begins_anew_where_it_was_and_starts_nothing_twice(shared):
    root, _ = shared.fresh_job("lives-on", {"a": b"1"}, schedule=AT_CHANGES)
    ended(shared, "lives-on", 1)
    (watcher,) = parts_of(shared, "watcher")
    os.kill(watcher, signal.SIGKILL)
    (root / "b").write_bytes(b"2")
    found = ended(shared, "lives-on", 2)
    assert found[0]["totals"]["copy"]["objects"] == 1
    with shared.client() as cart:
        before = cart.triggers(job="lives-on")[0]["looked_at"]
        until(lambda: cart.triggers(job="lives-on")[0]["looked_at"] > before, what="another look")
        assert len(runs_of(shared, "lives-on")) == 2
        cart.switch_job("lives-on", on=False)
        (root / "c").write_bytes(b"3")
        assert "the job is off" in shared.run("trigger", "list").stdout
        cart.drop_job("lives-on")


def test_a_change_in_a_bucket_and_a_file_that_comes_of_age_start_a_run(shared):
    root = shared.fresh_store("of-bucket", {})
    shared.standin.shelf.make("watched")
    with shared.client() as cart:
        leg = {"from": "pine://office/watched/", "to": "pine://of-bucket/"}
        schedule = AT_CHANGES | {"settled": 1}
        cart.define_job({"job": "of-bucket", "legs": [leg], "schedule": schedule})
        cart.upload("office", "watched/new.txt", b"n")
        ended(shared, "of-bucket", 1)
        assert (root / "new.txt").read_bytes() == b"n"
        cart.drop_job("of-bucket")
    source, _ = shared.fresh_job("ages", {}, schedule=AT_CHANGES)
    with shared.client() as cart:
        definition = cart.job("ages")["definition"]
        leg = definition["legs"][0] | {"unchanged_for": "1 minute"}
        cart.change_job("ages", definition | {"legs": [leg]})
        (source / "young").write_bytes(b"y")
        os.utime(source / "young", (time.time() - 55, time.time() - 55))
        ended(shared, "ages", 1)
        cart.drop_job("ages")


def test_a_source_out_of_reach_is_told_and_watched_on(shared):
    root, _ = shared.fresh_job("lost-source", {"a": b"1"}, schedule=AT_CHANGES)
    ended(shared, "lost-source", 1)
    root.rename(root.with_name("elsewhere"))
    with shared.client() as cart:
        told = until(lambda: cart.triggers(job="lost-source")[0]["message"] or None)
        assert "no folder at" in told or "another folder" in told
        assert len(runs_of(shared, "lost-source")) == 1, "an absent source is no empty one"
        root.with_name("elsewhere").rename(root)
        until(lambda: not cart.triggers(job="lost-source")[0]["message"])
        cart.drop_job("lost-source")


def test_a_foreground_watch_carries_each_change_and_ends_with_its_command(shared):
    root = shared.fresh_store("foreground", {"a": b"1"})
    shared.standin.shelf.make("foreground")
    words = ("carry", "pine://foreground/", "pine://office/foreground/", "--each-change")
    process = subprocess.Popen(
        [*PINECART, *words],
        env=shared.env,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        # whoever started the tests in the background has had Ctrl-C ignored
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),  # noqa: PLW1509
    )
    until(lambda: len(there(shared, "foreground")) == 1, what="what was there")
    (root / "b").write_bytes(b"2")
    os.utime(root / "b", (1_700_000_000, 1_700_000_000))
    until(lambda: len(there(shared, "foreground")) == 2, what="what came")
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=120)
    assert "1 copied" in out and "No longer watching" in err
    assert not shared.sql("select 1 from triggers_watch where until is not null")


def test_calls_from_outside_start_one_job_and_do_nothing_else(shared):
    shared.fresh_job("called", {"a": b"1"})
    shared.fresh_job("not-called", {"a": b"1"})
    with shared.client() as cart:
        token = shared.run("token", "make", "recorder", "--starts", "called").stdout.strip()
        assert [t["starts"] for t in cart.tokens() if t["name"] == "recorder"] == ["called"]
    with shared.client(token) as outside:
        run = outside.call("called")
        assert set(run) == {"run", "state"}
        refused = (
            lambda: outside.call("not-called"),
            lambda: outside.start("called"),
            lambda: outside.job("called"),
            lambda: outside.run(run["run"]),
            lambda: outside.make_token("more"),
            outside.today,
            outside.stores,
        )
        for call in refused:
            with pytest.raises(ClientError) as caught:
                call()
            assert caught.value.code == "token.only-starts"
        events = asked(
            "GET",
            f"{shared.url}/api/v1/runs/{run['run']}/events",
            headers={"Authorization": f"Bearer {token}"},
        )
        assert events.status_code == 403
    ended(shared, "called", 1)
    with shared.long_run("called-often") as under_way, shared.client() as cart:
        until(lambda: cart.run(under_way)["state"] == "working")
        runs = {cart.call("called-often")["run"] for _ in range(5)}
        assert len(runs) == 1 and runs != {under_way}, "one waits, whatever is called"
        cart.stop(runs.pop())
        cart.switch_job("called-often", on=False)
        with pytest.raises(ClientError) as caught:
            cart.call("called-often")
        assert caught.value.code == "job.off"
