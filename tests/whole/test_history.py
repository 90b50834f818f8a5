"""What runs came to over time: each figure equals the rows that it leads to."""

from __future__ import annotations

import pytest

from pinecart.client.errors import ClientError
from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.house import house


def summed(runs):
    """What rows of runs come to, as a week is told."""
    carried = [total for run in runs for name, total in run["totals"].items() if name in CARRIES]
    outcomes = [run["outcome"] for run in runs]
    return {
        "runs": len(runs),
        "outcomes": {outcome: outcomes.count(outcome) for outcome in outcomes},
        "files": sum(total["objects"] for total in carried),
        "bytes": sum(total["bytes"] for total in carried),
        "problems": sum(run["problems"] for run in runs),
    }


CARRIES = ("copy", "replace")


@pytest.fixture
def home(tmp_path):
    """Of its own: runs of it are put into the past, which nobody may have looked at before."""
    with house(tmp_path) as made:
        yield made


def told(week):
    return {name: week[name] for name in summed([])}


def test_every_figure_of_a_week_and_of_a_day_is_what_its_rows_come_to(home):
    root, job = home.fresh_job("weekly", {"a": b"12", "b": b"345"})
    home.carried(job)
    home.carried(job)
    with home.behaving(put=Behaviour(fail="AccessDenied", match="/c")):
        (root / "c").write_bytes(b"6")
        home.carried(job)
    with home.client() as cart:
        bygone = home.carried(job)["id"]
        home.sql(
            "update runs_run set ended_at=datetime(ended_at, '-9 days'), "
            "started_at=datetime(started_at, '-9 days') where id=?",
            bygone,
        )
        for name in (job, ""):
            weeks = cart.weeks(name, weeks=3)
            assert len(weeks) == 3 and weeks[0]["runs"] >= 3
            for week in weeks:
                span = {"since": week["since"], "until": week["until"]}
                rows = cart.runs(job=name, only="transfer", limit=500, **span)
                assert told(week) == summed(rows)
                assert sum(mark["runs"] for mark in week["marks"]) == len(rows)
                for mark in week["marks"]:
                    within = {"since": mark["since"], "until": mark["until"]}
                    ended = cart.runs(job=name, only="transfer", limit=500, **within)
                    assert len(ended) == mark["runs"]
                    assert mark["run"] in [r["id"] for r in ended if r["outcome"] == mark["mark"]]
        mine = cart.weeks(job, weeks=3)
        assert sum(week["runs"] for week in mine) == 4
        assert mine[0]["outcomes"] == {"clean": 1, "nothing-to-do": 1, "problems": 1}
        assert mine[0]["marks"][-1]["mark"] == "problems", "the worst of them"
        for day in cart.picture()["days"]:
            since, until = f"{day['day']}T00:00:00Z", f"{day['day']}T23:59:59.999999Z"
            rows = cart.runs(only="transfer", since=since, until=until, limit=500)
            day_told = {name: day[name] for name in ("runs", "files", "bytes", "problems")}
            assert day_told == {name: summed(rows)[name] for name in day_told}
    shown = home.run("history", job, "--weeks", "2").stdout
    assert "1 clean, 1 nothing-to-do, 1 problems" in shown
    assert "▲ problems" in home.run("run", "list", "--job", job, "--since", "2020-01-01").stdout
    assert job not in home.run("run", "list", "--until", "2020-01-01").stdout


def test_what_is_not_ones_own_is_not_in_the_weeks(shared):
    shared.fresh_job("weeks-of-owls", {"a": b"1"}, labels=["of-weeks"])
    shared.fresh_job("weeks-of-others", {"a": b"1"})
    for job in ("weeks-of-owls", "weeks-of-others"):
        shared.carried(job)
    with shared.client(shared.person("week-reader", "look", "of-weeks")) as cart:
        assert cart.weeks()[0]["runs"] == len(cart.runs(limit=500)) >= 1
        with pytest.raises(ClientError, match="no job 'weeks-of-others'"):
            cart.weeks("weeks-of-others")
