"""What needs a person and is no run, each with its cause, what to do, and where."""

from __future__ import annotations

import shutil

from tests.whole.house import until


def concerns(cart, subject):
    return {c["words"]: c for c in cart.today()["concerns"] if c["subject"] == subject}


def test_what_needs_a_person_stands_on_today_until_it_is_seen_to(shared):
    every_year = {"cron": "0 5 1 1 *", "zone": "UTC"}
    root, job = shared.fresh_job("worried", {"a": b"1"}, schedule=every_year)
    with shared.client() as cart:
        assert concerns(cart, "worried") == {}, "it is new"
        shared.sql(
            "update jobs_jobrecord set saved_at=datetime(saved_at, '-2 days') where name=?", job
        )
        assert list(concerns(cart, "worried")) == ["It has never run."]
        assert "It has never run." in shared.run().stdout
        shared.carried(job)
        assert concerns(cart, "worried") == {}

        shutil.move(root, root.with_name("away"))
        cart.try_store("worried")
        (words,) = concerns(cart, "worried")
        assert words.startswith("The last try failed at")
        assert concerns(cart, "worried")[words]["path"] == "/stores/worried/about"
        shutil.move(root.with_name("away"), root)
        cart.try_store("worried")
        assert concerns(cart, "worried") == {}

        since = "select secret_since from stores_storerecord where name='office'"
        (before,) = shared.sql(since)[0]
        aged = "update stores_storerecord set secret_since=? where name='office'"
        shared.sql(aged, "2020-01-01 00:00:00")
        assert "Its key is over a year old." in concerns(cart, "office")
        shared.sql(aged, before)
        assert concerns(cart, "office") == {}

        changes = {"kind": "changes", "settled": 1, "look": 5}
        cart.change_job(job, cart.job(job)["definition"] | {"schedule": changes})
        shutil.move(root, root.with_name("away"))
        until(lambda: concerns(cart, "worried"), 60, "the watcher to say so")
        assert "can't be watched" in next(iter(concerns(cart, "worried")))
        shutil.move(root.with_name("away"), root)
        until(lambda: not concerns(cart, "worried"), 60, "the watcher to see it again")
