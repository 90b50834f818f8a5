"""Stores of other machines under the whole service: killed in the middle of a large file, a server
that is away for a while, one that lets nobody in any more.
"""

from __future__ import annotations

import os
import shutil
import time

import pytest

from tests.servers.dav import PythonDav, apache
from tests.servers.hdfs import Hdfs, hdfs
from tests.servers.sftp import PythonSftp, openssh
from tests.servers.smb import samba
from tests.whole.house import house, kill_one, until

LARGE = 200 << 20
SLOW = "40 MiB"  # a second: so that somebody may be killed in the middle


@pytest.fixture(scope="module")
def home(tmp_path_factory):
    with house(tmp_path_factory.mktemp("kinds")) as made:
        yield made


@pytest.fixture(scope="module")
def servers(tmp_path_factory):
    """kind → the server, and how a folder of it is made."""
    with (
        openssh(tmp_path_factory.mktemp("sshd")) as ssh,
        apache() as dav,
        samba() as smb,
        hdfs(tmp_path_factory.mktemp("hdfs")) as system,
    ):

        def folder(name):
            made = tmp_path_factory.mktemp("far") / name
            made.mkdir()
            return made

        yield {
            "sftp": (ssh, folder),
            "webdav": (dav, dav.folder),
            "smb": (smb, smb.folder),
            "webhdfs": (system, system.folder),
        }


def remote_store(home, name, spec):
    with home.client() as cart:
        cart.add_store({"name": name} | spec)


def job_between(home, name, source, target, **more):
    leg = {"from": f"pine://{source}/", "to": f"pine://{target}/in/"}
    with home.client() as cart:
        cart.define_job({"job": name, "legs": [leg], **more})


def parts_below(root):
    return [path for path in root.rglob(".pinecart-*.part") if path.is_file()]


def ended(home, run):
    with home.client() as cart:
        return until(lambda: (r := cart.run(run))["state"] == "ended" and r, 120, "its end")


@pytest.mark.parametrize("kind", ["sftp", "webdav", "smb", "webhdfs"])
@pytest.mark.parametrize("way", ["there", "back"])
def test_killed_in_the_middle_of_a_large_file_it_goes_on(home, servers, kind, way):
    """Going there, by the part that was there, where the protocol can: the file that gets the name
    is the one begun.
    """
    name, body = f"{kind}-{way}", os.urandom(1 << 20) * (LARGE >> 20)
    server, folder = servers[kind]
    far = folder(name)
    near = home.fresh_store(f"{name}-near", {})
    remote_store(home, f"{name}-far", server.spec(far))
    source, target = (near, far) if way == "there" else (far, near)
    (source / "long.flac").write_bytes(body)
    names = (f"{name}-near", f"{name}-far")
    job_between(home, name, *(names if way == "there" else names[::-1]), rate=SLOW)
    with home.client() as cart:
        run = cart.start(name)["id"]
    begun = 0
    if (
        kind in ("webdav", "webhdfs") and way == "there"
    ):  # it shows nothing of a file before all has come
        with home.client() as cart:
            on_way = lambda: (cart.run(run)["progress"] or {}).get("in_flight", [])  # noqa: E731
            until(lambda: sum(file["bytes"] for file in on_way()) > 50 << 20, 100)
    else:
        parts = lambda: (p for p in parts_below(target) if p.stat().st_size > 50 << 20)  # noqa: E731
        begun = until(lambda: next(parts(), 0), 100).stat().st_ino
    kill_one(home, run, "run")
    told = ended(home, run)
    assert (told["outcome"], told["totals"]["copy"]["objects"]) == ("clean", 1), told["sentence"]
    arrived = target / "in" / "long.flac"
    assert arrived.read_bytes() == body and not parts_below(far) and not parts_below(near)
    if begun and way == "there":
        assert arrived.stat().st_ino == begun
    assert home.carried(name)["outcome"] == "nothing-to-do"
    shutil.rmtree(far)


@pytest.mark.parametrize("kind", ["sftp", "webdav", "smb", "webhdfs"])
def test_a_server_that_is_away_for_twenty_seconds(home, servers, kind):
    server, folder = servers[kind]
    name, far = f"away-{kind}", folder(f"away-{kind}")
    files = {f"d{n % 9}/{n:04}": b"%d" % n for n in range(1500)} | {"long": os.urandom(60 << 20)}
    home.fresh_store(f"{name}-near", files)
    remote_store(home, f"{name}-far", server.spec(far))
    job_between(home, name, f"{name}-near", f"{name}-far", rate="8 MiB")
    with home.client() as cart:
        run = cart.start(name)["id"]
        until(lambda: home.done_of(run) > 20, what="some files to be there")
        server.stop()
        try:
            until(lambda: "tried again" in str(cart.run(run)["progress"]), 15, "it to be missed")
            back = time.monotonic() + 20
            until(lambda: time.monotonic() > back)
        finally:
            server.start()
    told = ended(home, run)
    assert told["outcome"] == "clean", (told["sentence"], told["problem_groups"])
    arrived = {str(p.relative_to(far / "in")): p for p in far.rglob("*") if p.is_file()}
    assert {key: path.read_bytes() for key, path in arrived.items()} == files


def test_a_password_that_is_refused_by_webdav_in_mid_run_holds_it(home, tmp_path):
    far = tmp_path / "far"
    far.mkdir()
    with PythonDav(far) as server:
        refused_in_mid_run(home, "refused-dav", far, server)


def test_a_password_that_is_refused_by_sftp_in_mid_run_holds_it(home, tmp_path):
    far = tmp_path / "far"
    far.mkdir()
    with PythonSftp(far) as server:
        refused_in_mid_run(home, "refused", far, server, host_key="")
        with home.client() as cart:
            shown = cart.store("refused-far")["host_key"]  # from now on it is pinned
        assert shown.endswith(server.key.get_fingerprint())


def test_a_password_that_is_refused_by_smb_in_mid_run_holds_it(home, servers):
    server, folder = servers["smb"]
    far = folder("refused")
    try:
        refused_in_mid_run(home, "refused-smb", far, server, root=far)
    finally:
        server.password = "larkfell"


def test_a_token_that_is_refused_by_webhdfs_in_mid_run_holds_it(home, tmp_path):
    far = tmp_path / "far"
    far.mkdir()
    with Hdfs(far, token="made-up-token") as server:
        refused_in_mid_run(home, "refused-hdfs", far, server, secret="token")


def refused_in_mid_run(home, name, far, server, secret="password", **more):
    files = {f"{n:04}": b"%d" % n for n in range(1200)}
    home.fresh_store(f"{name}-near", files)
    remote_store(home, f"{name}-far", server.spec(**more))
    with home.client() as cart:
        assert cart.try_store(f"{name}-far")["ok"]
    job_between(home, name, f"{name}-near", f"{name}-far", rate="100 KiB")
    with home.client() as cart:
        run = cart.start(name)["id"]
        until(lambda: home.done_of(run) > 20, what="some files to be there")
        setattr(server, secret, "another")
        server.cut()
        until(lambda: cart.run(run)["state"] == "held", 60, "it to be held")
        cart.change_store(f"{name}-far", {secret: "another"})
        cart.go_on(f"{name}-far")
    told = ended(home, run)
    assert told["outcome"] == "clean", (told["sentence"], told["problem_groups"])
    assert {p.name: p.read_bytes() for p in (far / "in").iterdir()} == files
