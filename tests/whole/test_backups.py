"""A state folder is backed up while runs go on, and made anew: nothing starts there by itself until
somebody says so, and what is missing is said.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import tarfile
from pathlib import Path

import pytest

from pinecart.client import Client
from pinecart.service.config.state import FORMAT
from pinecart.standins.bucket_behaviour import Behaviour
from tests.repeats import first
from tests.standin import running
from tests.whole.house import PASSWORD, Browser, House, house, until


@pytest.fixture
def restored(tmp_path):
    """(a house, another one on a folder restored from its backup, not started)."""
    for folder in ("first", "second"):
        (tmp_path / folder).mkdir()
    with house(tmp_path / "first") as home:
        every_minute = {"cron": "* * * * *", "zone": "UTC"}
        home.fresh_job("nightly", {"a": b"1"}, schedule=every_minute)
        home.fresh_job("slow", {f"{n}": b"x" for n in range(160)})
        home.carried("nightly")
        with home.client() as cart, home.behaving(put=Behaviour(per_second=4)):
            run = cart.start("slow")["id"]
            until(lambda: home.done_of(run) > 2)
            told = home.run("backup", str(tmp_path / "backup"), "--data", str(home.state))
            assert told.returncode == 0, told.stderr
        home.end()
        other = House(tmp_path / "second", home.standin, home.endpoint)
        other.files = home.files
        yield home, other, tmp_path / "backup"
        if other.process and other.process.poll() is None:
            other.end()


def restore(home, other, backup):
    return home.run("restore", str(backup), "--data", str(other.state))


def test_nothing_starts_by_itself_after_a_restore_until_somebody_says_so(restored):
    home, other, backup = restored
    assert not (backup / "seal.key").exists()
    told = restore(home, other, backup)
    assert told.returncode == 0, told.stderr
    assert told.stderr.startswith("▲ seal.key is missing") and "--new-key" in told.stderr
    looked = home.run("check", "--data", str(other.state))
    assert looked.returncode == 1
    assert all(
        f"{key} is missing" in looked.stdout for key in ("seal.key", "trail.key", "sign.key")
    )
    for key in ("seal.key", "trail.key", "sign.key"):
        shutil.copy(home.state / key, other.state / key)
    shutil.copy(home.state / "token", other.state / "token")
    other.start()
    with other.client() as cart:
        assert cart.today()["restored"]
        slow = next(run for run in cart.runs() if run["job"] == "slow")
        assert (slow["state"], "backed up" in slow["message"]) == ("paused", True)
        assert "go-on" in other.run().stderr
        before = len(cart.runs(job="nightly"))
        other.sql("UPDATE jobs_jobrecord SET next_due='2026-01-01 00:00:00' WHERE name='nightly'")
        assert cart.start("nightly")["state"] == "queued"
        until(lambda: cart.runs(job="nightly")[0]["state"] == "ended", 30)
        assert len(cart.runs(job="nightly")) == before + 1
        assert other.run("settings", "go-on").returncode == 0
        assert not cart.today()["restored"]
        cart.resume(slow["id"])
        until(lambda: cart.run(slow["id"])["outcome"] == "clean", 60)
        until(lambda: cart.job("nightly")["next_due"] > "2026-02", 30)
        assert cart.verify_trail()["is_whole"]


def test_a_backup_that_was_changed_or_has_a_part_missing_makes_no_folder(restored):
    home, other, backup = restored
    told = json.loads((backup / "backup.json").read_text())
    assert told["files"]["pinecart.sqlite3"]["bytes"] > 100_000
    with (backup / "pinecart.sqlite3").open("r+b") as file:
        file.seek(5000)
        file.write(b"x")
    refused = restore(home, other, backup)
    assert refused.returncode == 4 and "not as it was backed up" in refused.stderr
    (backup / "pinecart.sqlite3").unlink()
    assert "missing in the backup" in restore(home, other, backup).stderr
    assert not other.state.exists() or not any(other.state.iterdir())
    twice = home.run("backup", str(backup), "--data", str(home.state))
    assert twice.returncode == 4 and "there already" in twice.stderr


STATES = sorted((Path(__file__).parent / "states").glob("format-*.tar.gz"))


def unpacked(archive, home):
    """A state folder as an earlier release left it after one run: its stores lie below this house's
    files now.
    """
    with tarfile.open(archive) as packed:
        packed.extractall(home.state.parent, filter="data")
    for n in range(1, 6):
        for place in ("here/posts", "there"):
            file = home.files / place / f"{n}.csv"
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(f"count {n}\n")
            os.utime(file, (1_700_000_000, 1_700_000_000))
    disk = f'"fsid": {os.statvfs(home.files).f_fsid}'
    for name, text in home.sql("SELECT name, fields FROM stores_storerecord"):
        form = text.replace("/srv/larkfell/files", str(home.files))
        form = re.sub(r'"fsid": \d+', disk, form)
        home.sql("UPDATE stores_storerecord SET fields=? WHERE name=?", form, name)


@pytest.mark.parametrize(
    "archive", first(1, STATES), ids=lambda archive: archive.name.partition(".")[0]
)
def test_the_state_folder_of_every_earlier_release_is_taken_over(archive, tmp_path):
    assert len(STATES) == FORMAT - 1
    with running() as (standin, endpoint):
        home = House(tmp_path, standin, endpoint)
        unpacked(archive, home)
        (home.state / "token").unlink(missing_ok=True)
        home.start()
        try:
            code = home.run("let-in", "admin", "--data", str(home.state)).stdout.strip()
            made = Browser(home.url)
            assert made.ask("POST", "entry", {"code": code, "password": PASSWORD}).status_code < 300
            with Client(home.url) as cart:
                token = cart.token_for("admin", PASSWORD, token_name="taken over")
            (home.state / "token").write_text(token)
            run = home.carried("kept")
            assert run["outcome"] == "nothing-to-do", run["message"]
            with home.client() as cart:
                assert cart.runs(job="kept")[-1]["totals"]["copy"]["objects"] == 5
                assert cart.verify_trail()["is_whole"]
            (home.files / "here/posts/6.csv").write_text("new")
            assert home.carried("kept")["totals"]["copy"]["objects"] == 1
        finally:
            home.end()
