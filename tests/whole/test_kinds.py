"""Stores of other machines under the whole service: killed in the middle of a large file, a server
that is away for a while, one that lets nobody in any more.
"""

from __future__ import annotations

import base64
import os
import time
from contextlib import ExitStack

import pytest

from pinecart.client.errors import InvalidRequest
from tests.repeats import first, repeat
from tests.servers import swift
from tests.servers.azurite import azurite
from tests.servers.dav import PythonDav, apache
from tests.servers.hdfs import Hdfs, hdfs
from tests.servers.sftp import PythonSftp, openssh
from tests.servers.smb import samba
from tests.servers.swift_door import SwiftBehindALine
from tests.whole.house import house, kill_one, until

LARGE = 200 << 20
SLOW = "40 MiB"  # a second: so that somebody may be killed in the middle


@pytest.fixture(scope="module")
def home(tmp_path_factory):
    with house(tmp_path_factory.mktemp("kinds"), "--runs-at-once", str(len(KINDS))) as made:
        yield made


class FarFolder:
    """That a server has on this machine's disk."""

    def __init__(self, server, root):
        self.server, self.root = server, root

    @property
    def spec(self):
        return self.server.spec(self.root)

    def put(self, key, body):
        (self.root / key).write_bytes(body)

    def holds(self):
        files = [path for path in self.root.rglob("*") if path.is_file()]
        return {str(path.relative_to(self.root)): path.read_bytes() for path in files}

    def left(self):
        """What was begun, and is not there yet."""
        return parts_below(self.root)


class FarContainer:
    """server: what has it, and how it is looked at by other means than ours."""

    def __init__(self, server):
        self.server, self.container = server, server.container()

    @property
    def spec(self):
        return self.server.spec(self.container)

    def put(self, key, body):
        self.server.put(f"{self.container}/{key}", body)

    def holds(self):
        return self.server.holds(self.container)

    def left(self):
        return self.server.left(self.container)


@pytest.fixture(scope="module")
def places(tmp_path_factory):
    """kind → how a place there is made, of a name."""
    with (
        openssh(tmp_path_factory.mktemp("sshd")) as ssh,
        apache() as dav,
        samba() as smb,
        hdfs(tmp_path_factory.mktemp("hdfs")) as system,
        azurite() as blobs,
    ):

        def over_ssh(name):
            made = tmp_path_factory.mktemp("far") / name
            made.mkdir()
            return FarFolder(ssh, made)

        yield {
            "sftp": over_ssh,
            "webdav": lambda name: FarFolder(dav, dav.folder(name)),
            "smb": lambda name: FarFolder(smb, smb.folder(name)),
            "webhdfs": lambda name: FarFolder(system, system.folder(name)),
            "blob": lambda name: FarContainer(blobs),
            "swift": lambda name: FarContainer(SwiftBehindALine()),
        }


KINDS = ["sftp", "webdav", "smb", "webhdfs", "blob", "swift"]
SHOWS_PARTS = ["sftp", "smb"]  # of a file before all has come


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


@pytest.mark.parametrize("kind", first(2, KINDS))
@pytest.mark.parametrize("way", ["there", "back"])
def test_killed_in_the_middle_of_a_large_file_it_goes_on(home, places, kind, way):
    """Going there, by the part that was there, where the protocol can: the file that gets the name
    is the one begun.
    """
    name, body = f"{kind}-{way}", os.urandom(1 << 20) * (LARGE >> 20)
    far = places[kind](name)
    near = home.fresh_store(f"{name}-near", {"long.flac": body} if way == "there" else {})
    remote_store(home, f"{name}-far", far.spec)
    if way == "back":
        far.put("long.flac", body)
    names = (f"{name}-near", f"{name}-far")
    job_between(home, name, *(names if way == "there" else names[::-1]), rate=SLOW)
    with home.client() as cart:
        run = cart.start(name)["id"]
    begun = 0
    if way == "there" and kind not in SHOWS_PARTS:
        with home.client() as cart:
            on_way = lambda: (cart.run(run)["progress"] or {}).get("in_flight", [])  # noqa: E731
            until(lambda: sum(file["bytes"] for file in on_way()) > 50 << 20, 100)
    else:
        target = near if way == "back" else far.root
        parts = lambda: (p for p in parts_below(target) if p.stat().st_size > 50 << 20)  # noqa: E731
        begun = until(lambda: next(parts(), 0), 100).stat().st_ino
    kill_one(home, run, "run")
    told = ended(home, run)
    assert (told["outcome"], told["totals"]["copy"]["objects"]) == ("clean", 1), told["sentence"]
    arrived = (
        far.holds()["in/long.flac"] if way == "there" else (near / "in/long.flac").read_bytes()
    )
    assert arrived == body and not far.left() and not parts_below(near)
    if begun and way == "there":
        assert (far.root / "in" / "long.flac").stat().st_ino == begun
    assert home.carried(name)["outcome"] == "nothing-to-do"


@repeat
@pytest.mark.timeout(400)
def test_servers_that_are_away_for_twenty_seconds(home, places):
    """One of each kind, each stopped once its run is under way: they are waited for together."""
    files = {f"d{n % 9}/{n:04}": b"%d" % n for n in range(500)} | {"long": os.urandom(60 << 20)}
    home.fresh_store("away-near", files)
    far = {kind: places[kind](f"away-{kind}") for kind in KINDS}
    runs = {}
    with home.client() as cart, ExitStack() as in_the_end:
        for kind, place in far.items():
            runs[kind] = under_way(home, cart, f"away-{kind}", place)
            in_the_end.callback(place.server.start)
            place.server.stop()
        for kind, run in runs.items():
            is_missed = lambda run=run: "tried again" in str(cart.run(run)["progress"])  # noqa: E731
            until(is_missed, 120, f"{kind} to be missed")
        back = time.monotonic() + 20
        until(lambda: time.monotonic() > back)
    for kind, run in runs.items():
        told = ended(home, run)
        assert told["outcome"] == "clean", (kind, told["sentence"], told["problem_groups"])
        assert far[kind].holds() == {f"in/{key}": body for key, body in files.items()}, kind


def under_way(home, cart, name, far):
    """The run of a new job that has carried some files there, and goes on."""
    remote_store(home, f"{name}-far", far.spec)
    job_between(home, name, "away-near", f"{name}-far", rate="8 MiB")
    run = cart.start(name)["id"]
    until(lambda: home.done_of(run) > 20, what="some files to be there")
    return run


def test_a_password_that_is_refused_by_webdav_in_mid_run_holds_it(home, tmp_path):
    far = tmp_path / "far"
    far.mkdir()
    with PythonDav(far) as server:
        refused_in_mid_run(home, "refused-dav", server, FarFolder(server, far).holds)


@repeat
def test_a_password_that_is_refused_by_sftp_in_mid_run_holds_it(home, tmp_path):
    far = tmp_path / "far"
    far.mkdir()
    with PythonSftp(far) as server:
        refused_in_mid_run(home, "refused", server, FarFolder(server, far).holds, host_key="")
        with home.client() as cart:
            shown = cart.store("refused-far")["host_key"]  # from now on it is pinned
        assert shown.endswith(server.key.get_fingerprint())


@repeat
def test_a_password_that_is_refused_by_smb_in_mid_run_holds_it(home, places):
    far = places["smb"]("refused")
    server = far.server
    try:
        refused_in_mid_run(home, "refused-smb", server, far.holds, root=far.root)
    finally:
        server.password = "larkfell"


@repeat
def test_a_token_that_is_refused_by_webhdfs_in_mid_run_holds_it(home, tmp_path):
    far = tmp_path / "far"
    far.mkdir()
    with Hdfs(far, token="made-up-token") as server:
        refused_in_mid_run(home, "refused-hdfs", server, FarFolder(server, far).holds, "token")


@repeat
def test_a_key_that_is_refused_by_blob_storage_in_mid_run_holds_it(home):
    with azurite() as server:
        far = FarContainer(server)
        another = base64.b64encode(b"another made-up key").decode()
        refused_in_mid_run(
            home, "refused-blob", server, far.holds, "key", another, root=far.container
        )


def test_a_key_that_is_refused_by_swift_in_mid_run_holds_it(home):
    far = FarContainer(SwiftBehindALine())
    mend, key = far.server.mend, swift.SECRET
    name = "refused-swift"
    refused_in_mid_run(home, name, far.server, far.holds, "key", key, mend, root=far.container)


def nothing():
    pass


def is_well(cart, store):
    told = cart.try_store(store)
    failed = [step for step in told["steps"] if step["ok"] is False]
    assert all(step["code"] in ("store.busy", "store.silent") for step in failed), failed
    return told["ok"]


def is_changed(cart, store, secret):
    """It is tried first, and a busy Swift gives up on its own servers."""
    try:
        cart.change_store(store, secret)
    except InvalidRequest as exc:
        assert "(503)" in str(exc) or "did not answer" in str(exc), exc
        return False
    return True


def refused_in_mid_run(
    home, name, server, holds, secret="password", another="another", mend=nothing, **more
):
    files = {f"{n:04}": os.urandom(2048) for n in range(300)}  # 12 s at the rate below
    home.fresh_store(f"{name}-near", files)
    remote_store(home, f"{name}-far", server.spec(**more))
    with home.client() as cart:
        until(lambda: is_well(cart, f"{name}-far"), what="a try that is well")
    job_between(home, name, f"{name}-near", f"{name}-far", rate="50 KiB")
    with home.client() as cart:
        run = cart.start(name)["id"]
        until(lambda: home.done_of(run) > 20, what="some files to be there")
        setattr(server, secret, another)
        server.cut()
        until(lambda: cart.run(run)["state"] == "held", 60, "it to be held")
        mend()
        cart.limit(run, None)
        until(lambda: is_changed(cart, f"{name}-far", {secret: another}), what="the new secret")
        cart.go_on(f"{name}-far")
    told = ended(home, run)
    assert told["outcome"] == "clean", (told["sentence"], told["problem_groups"])
    assert holds() == {f"in/{key}": body for key, body in files.items()}
