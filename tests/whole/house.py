"""A whole Pine Cart for tests: the service as its users start it, on loopback, with one folder
store and one stand-in.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import signal
import socket
import sqlite3
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx

from pinecart.client import Client
from pinecart.standins.bucket_behaviour import Behaviour
from pinecart.standins.bucket_server import BucketServer
from tests.standin import KEY, SECRET, running

PASSWORD = "dawn-chorus-at-five"  # of everybody whom a test adds
PLAIN = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)  # for plain HTTP: the authorities take long to load
PINECART = [sys.executable, "-m", "pinecart.cli.main"]


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


_NEVER = threading.Event()


def until(true: Callable[[], Any], seconds: float = 60, what: str = "it to become true") -> Any:
    """Wait for an outside process to get somewhere."""
    deadline = time.monotonic() + seconds
    while not (found := true()):
        assert time.monotonic() < deadline, f"waited {seconds} s for {what}"
        _NEVER.wait(0.05)
    return found


def asked(method: str, url: str, **more: Any) -> httpx.Response:
    """Over a line of its own; a slow machine is waited for."""
    return httpx.request(method, url, **{"timeout": 60, "verify": PLAIN} | more)


class Browser:
    """What a browser does: cookies, and the session's token with every change."""

    def __init__(self, url: str) -> None:
        agent = {"User-Agent": "a browser"}
        at = f"{url}/api/v1/"
        self.http = httpx.Client(base_url=at, headers=agent, timeout=60, verify=PLAIN)

    def ask(self, method: str, path: str, body: Any = None) -> httpx.Response:
        answer = self.http.request(method, path, json=body)
        if "csrf" in answer.text:
            self.http.headers["X-CSRFToken"] = answer.json().get("csrf", "")
        return answer

    def sign_in(self, name: str, password: str = PASSWORD, **more: Any) -> httpx.Response:
        return self.ask("POST", "session", {"name": name, "password": password, **more})

    @property
    def name(self) -> Any:
        return self.ask("GET", "session").json()["name"]


class House:
    """state: its folder.   files: where folder stores may lie.   standin, endpoint: the object
    store.
    """

    def __init__(self, root: Path, standin: BucketServer, endpoint: str, *options: str) -> None:
        self.state, self.files = root / "state", root / "files"
        self.files.mkdir(exist_ok=True)
        self.standin, self.endpoint, self.options = standin, endpoint, options
        self.port = free_port()
        self.process: subprocess.Popen[str] | None = None
        self.said = ""
        self.password = ""  # of the first person, where it was started the first time

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def env(self) -> dict[str, str]:
        return {k: v for k, v in os.environ.items() if not k.startswith(("PINECART", "DJANGO"))} | {
            "PINECART_DATA": str(self.state),
            "HOME": str(self.files),
        }

    def start(self) -> None:
        command = [
            *PINECART,
            "serve",
            "--data",
            str(self.state),
            "--port",
            str(self.port),
            "--folders",
            str(self.files),
        ]
        log = open(self.state.parent / "serve.log", "a")  # noqa: SIM115
        self.process = subprocess.Popen(
            [*command, "--allow-address", "127.0.0.1", *self.options],
            stdout=log,
            stderr=log,
            env=self.env,
            text=True,
        )
        until(self.answers, 70, what="the service to answer")  # by itself it gives up after 60
        until(lambda: "Ctrl-C ends it" in self.log(), what="its welcome")
        self._sign_in()

    def _sign_in(self) -> None:
        """As the demo does: a token of the first person's is kept beside the state."""
        file, welcome = (
            self.state / "token",
            re.search(r"Sign in as admin with the password (\S+)", self.log()),
        )
        if welcome and not file.exists():
            self.password = welcome[1]
            with Client(self.url) as cart:
                token = cart.token_for("admin", self.password, token_name="this machine")
            file.touch(mode=0o600)
            file.write_text(token)

    def log(self) -> str:
        return (self.state.parent / "serve.log").read_text()

    def answers(self) -> bool:
        try:
            return asked("GET", f"{self.url}/api/v1/health").status_code == 200
        except httpx.HTTPError:
            assert self.process and self.process.poll() is None, self.log()
            return False

    def works_on_for(self, seconds: float) -> None:
        """Or until it ends."""
        assert self.process
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(seconds)

    def end(self) -> float:
        """Seconds that ending took."""
        assert self.process
        began = time.monotonic()
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(60)
        return time.monotonic() - began

    @property
    def token(self) -> str:
        return (self.state / "token").read_text()

    def client(self, token: str | None = None) -> Client:
        return Client(self.url, self.token if token is None else token)

    def run(
        self, *words: str, stdin: str | None = None, **env: str
    ) -> subprocess.CompletedProcess[str]:
        """The command line, as a person would use it."""
        return subprocess.run(
            [*PINECART, *words],
            input=stdin,
            capture_output=True,
            text=True,
            env=self.env | env,
            timeout=120,
            check=False,
        )

    def json(self, *words: str) -> Any:
        done = self.run("--json", *words)
        return json.loads(done.stdout)

    def sql(self, text: str, *values: Any) -> list[Any]:
        """Straight into the database, as only a test may."""
        with (
            contextlib.closing(sqlite3.connect(self.state / "pinecart.sqlite3", timeout=20)) as db,
            db,
        ):
            return db.execute(text, values).fetchall()

    @contextlib.contextmanager
    def behaving(self, **kinds: Behaviour) -> Iterator[None]:
        """The stand-in answers requests of these kinds so, for a while."""
        self.standin.behaviour |= kinds
        try:
            yield
        finally:
            self.standin.behaviour.clear()

    def done_of(self, run: int) -> int:
        """Of how many objects a run that is under way has told that they are done."""
        with self.client() as cart:
            return int((cart.run(run)["progress"] or {"done": {"objects": 0}})["done"]["objects"])

    def fresh_store(self, name: str, files: dict[str, bytes]) -> Path:
        """A folder store with these files, old enough not to be racy."""
        root = self.files / name
        root.mkdir(parents=True, exist_ok=True)
        for path, body in files.items():
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            (root / path).write_bytes(body)
            os.utime(root / path, (1_700_000_000, 1_700_000_000))
        with self.client() as cart:
            cart.add_store({"name": name, "kind": "folder", "path": str(root)})
        return root

    def fresh_job(self, name: str, files: dict[str, bytes], **more: Any) -> tuple[Path, str]:
        """A store and bucket of this name, and a job from one to the other.

        Gives the folder and the bucket.
        """
        root = self.fresh_store(name, files)
        self.standin.shelf.make(name)
        with self.client() as cart:
            cart.define_job(
                {
                    "job": name,
                    "legs": [{"from": f"pine://{name}/", "to": f"pine://office/{name}/in/"}],
                    **more,
                }
            )
        return root, name

    @contextlib.contextmanager
    def long_run(self, job: str) -> Iterator[int]:
        """A run of a new job that goes on as long as this."""
        self.fresh_job(job, {"a": b"1"})
        with self.client() as cart:
            with self.behaving(put=Behaviour(delay_s=30)):
                run = cart.start(job)["id"]
                yield run
            if cart.run(run)["state"] != "ended":
                cart.stop(run)

    def person(self, name: str, right: str = "look", label: str = "") -> str:
        """Somebody with this right, on one label or on all. Gives a token of theirs."""
        with self.client() as cart:
            cart.add_person(name, PASSWORD, [{"right": right, "label": label}])
            return cart.make_token("t", person=name)

    def browser(self, name: str) -> Browser:
        """One in which somebody is signed in."""
        made = Browser(self.url)
        assert made.sign_in(name).status_code == 200
        return made

    def carried(self, job: str) -> dict[str, Any]:
        """Start a job and wait; gives the run as it ended."""
        with self.client() as cart:
            run = cart.start(job)
            for _ in cart.follow(run["id"]):
                pass
            return cart.run(run["id"])


@contextlib.contextmanager
def house(root: Path, *options: str) -> Iterator[House]:
    """A started house with the store `office`."""
    with running() as (standin, endpoint):
        made = House(root, standin, endpoint, *options)
        try:
            made.start()
            with made.client() as cart:
                cart.add_store(
                    {
                        "name": "office",
                        "kind": "s3",
                        "endpoint": endpoint,
                        "key_id": KEY,
                        "secret": SECRET,
                    }
                )
            yield made
        finally:
            if made.process and made.process.poll() is None:
                made.end()
            shutil.rmtree(made.files, ignore_errors=True)


def pids_of(parent: int) -> list[int]:
    """All processes below one, from /proc."""
    found = []
    for stat in Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError, ValueError):
            if int(stat.read_text().rpartition(")")[2].split()[1]) == parent:
                found += [int(stat.parent.name), *pids_of(int(stat.parent.name))]
    return found


def command(pid):
    """Its words; empty when it has ended."""
    with contextlib.suppress(OSError):
        return Path(f"/proc/{pid}/cmdline").read_bytes().replace(b"\0", b" ").decode()
    return ""


def parts_of(home: House, name: str = "") -> list[int]:
    """The service's processes of this name, or all, also those that lost who began them."""
    its = f"PINECART_DATA={home.state}\0".encode()
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        pid = int(folder.name)
        with contextlib.suppress(OSError):
            if title(pid).startswith(f"pine-{name}") and its in (folder / "environ").read_bytes():
                found.append(pid)
    return found


def title(pid: int) -> str:
    """A process's short name; empty when it has ended."""
    with contextlib.suppress(OSError):
        return Path(f"/proc/{pid}/comm").read_text().strip()
    return ""


def kill_one(home, run, victim):
    """With -9. True: it was the service."""
    children = parts_of(home)
    if victim == "service":
        home.process.send_signal(signal.SIGKILL)
        home.process.wait(60)
        until(lambda: not [p for p in children if command(p)], what="its processes to end with it")
        return True
    for pid in children:
        with contextlib.suppress(OSError):
            if works_on(home, pid, run) if victim == "run" else title(pid) == "pine-worker":
                os.kill(pid, signal.SIGKILL)
                break
    return False


def works_on(home, pid, run):
    lock = str(home.state / "runs" / f"{run}.lock")
    return any(os.readlink(f"/proc/{pid}/fd/{fd}") == lock for fd in os.listdir(f"/proc/{pid}/fd"))
