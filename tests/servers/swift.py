"""OpenStack Swift on loopback, one node, one replica, with its S3 interface: a judge that we did
not write.

`python -m tests.servers.swift` installs it (a virtual environment of its own, and memcached from
Debian) and starts it; a second call finds it running. It keeps its data in a folder below the
user's cache, and is ended with `… down`.
"""

from __future__ import annotations

import fcntl
import os
import signal
import subprocess
import sys
import urllib.request
from pathlib import Path

from tests.whole.house import until

KEY, SECRET = "test:tester", "testing"
CARRIER = {"user": "test:carrier", "key": "carrying"}  # may what a container allows it
PORT = int(os.environ.get("PINECART_SWIFT_PORT", "18980"))  # and the four after it
HOME = Path(os.environ.get("PINECART_SERVERS", Path.home() / ".cache" / "pinecart-tests")) / "swift"
VENV = HOME / "venv"
ENDPOINT = f"http://127.0.0.1:{PORT}"
PACKAGES = ["swift==2.38.3", "setuptools<80"]
DEBIAN = ["memcached", "libeatmydata1"]
TYPES = ("object", "container", "account")
PIPELINE = (
    "catch_errors gatekeeper healthcheck cache listing_formats bulk s3api tempauth copy slo dlo "
    "versioned_writes symlink"
)
PATIENCE = (  # a busy machine is slow, and its servers would give up on one another
    "node_timeout = 60\nrecoverable_node_timeout = 60\nconn_timeout = 20\n"
    "container_update_timeout = 60\nerror_suppression_limit = 1000000\n"
)
FILTERS = {
    "cache": (
        f"use = egg:swift#memcache\nmemcache_servers = 127.0.0.1:{PORT + 4}\n"
        "connect_timeout = 20\npool_timeout = 20\nio_timeout = 20\n"
        "error_suppression_limit = 1000000"
    ),
    "s3api": (
        "use = egg:swift#s3api\nlocation = us-east-1\ns3_acl = false\nmulti_delete_concurrency = 8"
    ),
    "tempauth": (
        "use = egg:swift#tempauth\nuser_test_tester = testing .admin\nuser_test_carrier = carrying"
    ),
    "slo": "use = egg:swift#slo\nmax_manifest_segments = 10000\nrate_limit_after_segment = 100000",
    "versioned_writes": "use = egg:swift#versioned_writes\nallow_object_versioning = true",
}


def install() -> None:
    if subprocess.run(["dpkg", "-s", *DEBIAN], capture_output=True, check=False).returncode:
        if os.geteuid():
            sys.exit(
                "The store tests need: sudo apt-get install --no-install-recommends "
                f"{' '.join(DEBIAN)}"
            )
        env = os.environ | {"DEBIAN_FRONTEND": "noninteractive"}
        subprocess.run(["apt-get", "update", "-q"], check=True, capture_output=True)
        subprocess.run(
            ["apt-get", "install", "-y", "-q", "--no-install-recommends", *DEBIAN],
            check=True,
            capture_output=True,
            env=env,
        )
    if not (VENV / "bin" / "swift-proxy-server").exists():
        subprocess.run([sys.executable, "-m", "venv", str(VENV)], check=True)
        subprocess.run([str(VENV / "bin" / "pip"), "install", "-q", *PACKAGES], check=True)


def configure() -> None:
    for folder in ("etc", "srv/d1", "run", "cache"):
        (HOME / folder).mkdir(parents=True, exist_ok=True)
    etc = HOME / "etc"
    (etc / "swift.conf").write_text(
        "[swift-hash]\nswift_hash_path_suffix = larkfell\nswift_hash_path_prefix = "
        "larkfell\n[storage-policy:0]\nname = one\ndefault = yes\n"
        "[swift-constraints]\nmax_meta_value_length = 2048\nmax_meta_overall_size = "
        "8192\nmax_header_size = 16384\n"
    )
    filters = "".join(
        f"[filter:{f}]\n{FILTERS.get(f, f'use = egg:swift#{f}')}\n" for f in PIPELINE.split()
    )
    (etc / "proxy-server.conf").write_text(
        f"{_common(PORT, 2)}[pipeline:main]\npipeline = {PIPELINE} "
        "proxy-server\n[app:proxy-server]\nuse = egg:swift#proxy\n"
        f"allow_account_management = true\naccount_autocreate = true\n{filters}"
    )
    builder = str(VENV / "bin" / "swift-ring-builder")
    for i, kind in enumerate(TYPES, 1):
        (etc / f"{kind}-server.conf").write_text(
            f"{_common(PORT + i, 0)}[pipeline:main]\npipeline = "
            f"{kind}-server\n[app:{kind}-server]\nuse = egg:swift#{kind}\n"
            f"[{kind}-replicator]\n[{kind}-updater]\n[{kind}-auditor]\n"
        )
        if not (etc / f"{kind}.ring.gz").exists():
            for words in (
                ["create", "4", "1", "0"],
                ["add", f"r1z1-127.0.0.1:{PORT + i}/d1", "1"],
                ["rebalance"],
            ):
                subprocess.run(
                    [builder, f"{kind}.builder", *words], cwd=etc, capture_output=True, check=False
                )


def _common(port: int, workers: int) -> str:
    user = subprocess.check_output(["id", "-un"], text=True).strip()
    return (
        f"[DEFAULT]\nbind_ip = 127.0.0.1\nbind_port = {port}\nuser = {user}\nswift_dir = "
        f"{HOME / 'etc'}\ndevices = {HOME / 'srv'}\n"
        "mount_check = false\ndisable_fallocate = true\nfallocate_reserve = 0\nworkers = "
        f"{workers}\nlog_level = ERROR\n{PATIENCE}"
        f"log_address = {HOME / 'run' / 'nolog'}\n"
    )


def answers() -> bool:
    try:
        with urllib.request.urlopen(f"{ENDPOINT}/healthcheck", timeout=2) as answer:
            return answer.status == 200
    except OSError:
        return False


def start() -> None:
    """Without flushes to the disk: it is test data. Its processes lead a session of their own, so
    that `end` finds them all.
    """
    commands = [
        ["memcached", "-l", "127.0.0.1", "-p", str(PORT + 4), "-U", "0", "-m", "32", "-u", "nobody"]
    ]
    commands += [
        [str(VENV / "bin" / f"swift-{t}-server"), str(HOME / "etc" / f"{t}-server.conf")]
        for t in (*TYPES, "proxy")
    ]
    env = os.environ | {"LD_PRELOAD": "libeatmydata.so"}
    pids = []
    with (HOME / "log").open("w") as log:
        for command in commands:
            pids.append(
                subprocess.Popen(
                    command,
                    stdout=log,
                    stderr=log,
                    stdin=subprocess.DEVNULL,
                    env=env,
                    start_new_session=True,
                ).pid
            )
    (HOME / "pids").write_text(" ".join(map(str, pids)))
    until(answers, 120, f"Swift to come up; see {HOME / 'log'}")


def up() -> None:
    """One at a time: the tests may be run by several processes, and each finds it up or brings it
    up.
    """
    HOME.mkdir(parents=True, exist_ok=True)
    with (HOME / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not answers():
            install()
            configure()
            start()


def end() -> None:
    if (HOME / "pids").exists():
        for pid in (HOME / "pids").read_text().split():
            try:
                os.killpg(int(pid), signal.SIGTERM)
            except ProcessLookupError:
                continue
        (HOME / "pids").unlink()


if __name__ == "__main__":
    end() if sys.argv[1:] == ["down"] else up()
