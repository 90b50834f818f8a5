"""A place in each kind of store, filled and read by other means than ours."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

from pinecart.core.ports import Store
from pinecart.drivers import open_store
from pinecart.standins.bucket_shelf import Shelf
from tests.runner.engine import QUICK
from tests.servers.azurite import Azurite, azurite
from tests.servers.dav import apache
from tests.servers.hdfs import hdfs
from tests.servers.sftp import openssh
from tests.servers.smb import samba
from tests.servers.swift_door import SwiftDoor
from tests.standin import KEY, SECRET, running

TIME = 1_700_000_000_000_000_000


class TreePlace:
    """A folder, of this machine or behind a server that has it on its disk."""

    path = ""

    def __init__(self, root: Path, spec: dict[str, object]) -> None:
        self.root, self.spec = root, spec

    def opened(self, name: str, **more: object) -> Store:
        own = {"name": name, "allowed": ["127.0.0.0/8"], "retry": QUICK._asdict()}
        return open_store(own | self.spec | more)

    def fill(self, files: dict[str, bytes]) -> None:
        for key, body in files.items():
            path = self.root / key
            path.parent.mkdir(parents=True, exist_ok=True)
            if key.endswith("/"):
                path.mkdir()
                continue
            path.write_bytes(body)
            os.utime(path, ns=(TIME, TIME))

    def remove(self, key: str) -> None:
        (self.root / key).unlink()

    def holds(self) -> dict[str, bytes]:
        """Hidden files of ours too, unless they are what was set aside."""
        found = {}
        for path in sorted(self.root.rglob("*")):
            key = str(path.relative_to(self.root))
            is_own = key.startswith(".pinecart-aside/") or ".DAV" in path.parts
            if path.is_file() and not is_own:
                found[key] = path.read_bytes()
        return found


class WritableTree(TreePlace):
    """Of a server that works as another user."""

    def fill(self, files: dict[str, bytes]) -> None:
        super().fill(files)
        for folder in self.root.rglob("*"):
            if folder.is_dir() and folder.name != ".DAV":
                folder.chmod(0o777)


class Door(Protocol):
    """To the objects of one bucket, by other means than ours."""

    def put(self, key: str, body: bytes, card: str) -> None: ...
    def remove(self, key: str) -> None: ...
    def holds(self) -> dict[str, bytes]: ...


class BucketPlace:
    def __init__(self, bucket: str, spec: dict[str, object], door: Door) -> None:
        self.path, self.spec, self.door = f"{bucket}/", spec, door

    def opened(self, name: str, **more: object) -> Store:
        own = {"name": name, "allowed": ["127.0.0.0/8"], "retry": QUICK._asdict()}
        return open_store(own | self.spec | more)

    def fill(self, files: dict[str, bytes]) -> None:
        for key, body in files.items():
            self.door.put(key, body, f"id=0;time={TIME};crc64nvme=")

    def remove(self, key: str) -> None:
        self.door.remove(key)

    def holds(self) -> dict[str, bytes]:
        """Without what was set aside."""
        found = sorted(self.door.holds().items())
        is_own = lambda key: key.startswith(".pinecart-aside/") or key.endswith("/")  # noqa: E731
        return {key: body for key, body in found if not is_own(key)}


class ShelfDoor:
    def __init__(self, shelf: Shelf, bucket: str) -> None:
        self.shelf, self.bucket = shelf, bucket
        shelf.make(bucket)

    def put(self, key: str, body: bytes, card: str) -> None:
        self.shelf.put(self.bucket, key, body, {"x-amz-meta-pinecart": card})

    def remove(self, key: str) -> None:
        self.shelf.delete(self.bucket, key)

    def holds(self) -> dict[str, bytes]:
        return {key: self.shelf.body(self.bucket, key) for key in self.shelf.buckets[self.bucket]}


class BlobDoor:
    def __init__(self, server: Azurite, container: str) -> None:
        self.server, self.container = server, container

    def put(self, key: str, body: bytes, card: str) -> None:
        self.server.put(f"{self.container}/{key}", body, pinecart=card)

    def remove(self, key: str) -> None:
        assert self.server.ask("DELETE", f"{self.container}/{key}").status_code == 202

    def holds(self) -> dict[str, bytes]:
        return self.server.holds(self.container)


class SwiftObjects:
    def __init__(self, door: SwiftDoor, container: str) -> None:
        self.door, self.container = door, container

    def put(self, key: str, body: bytes, card: str) -> None:
        self.door.put(f"{self.container}/{key}", body, pinecart=card)

    def remove(self, key: str) -> None:
        assert self.door.ask("DELETE", f"{self.container}/{key}").status_code == 204

    def holds(self) -> dict[str, bytes]:
        return self.door.holds(self.container)


class Kinds:
    """kind → how a new place of it is made."""

    def __init__(self, home: Path) -> None:
        self.home, self.count = home, 0
        self.makers = {}

    def place(self, kind: str) -> TreePlace | BucketPlace:
        self.count += 1
        return self.makers[kind](f"place-{self.count}")

    def folder(self, name: str) -> Path:
        root = self.home / name
        root.mkdir()
        root.chmod(0o777)
        return root


NAMES = ("folder", "s3", "sftp", "webdav", "smb", "webhdfs", "blob", "swift")


@contextlib.contextmanager
def every_kind(home: Path) -> Iterator[Kinds]:
    kinds = Kinds(home)
    with (
        running() as (server, endpoint),
        openssh(home / "sshd") as ssh,
        apache() as dav,
        samba() as smb,
        hdfs(home / "hdfs") as system,
        azurite() as blobs,
    ):
        door = SwiftDoor()

        def folder(name: str) -> TreePlace:
            root = kinds.folder(name)
            return TreePlace(root, {"kind": "folder", "path": str(root)})

        def in_bucket(name: str) -> BucketPlace:
            spec = {"kind": "s3", "endpoint": endpoint, "key_id": KEY, "secret": SECRET}
            return BucketPlace(name, spec, ShelfDoor(server.shelf, name))

        def in_container(name: str) -> BucketPlace:
            container = blobs.container()
            return BucketPlace(container, blobs.spec(), BlobDoor(blobs, container))

        def in_swift(name: str) -> BucketPlace:
            container = door.container()
            return BucketPlace(container, door.spec(), SwiftObjects(door, container))

        def sftp(name: str) -> TreePlace:
            root = kinds.folder(name)
            return TreePlace(root, ssh.spec(root))

        def webdav(name: str) -> TreePlace:
            root = dav.folder(name)
            return WritableTree(root, dav.spec(root))

        def on_share(name: str) -> TreePlace:
            root = smb.folder(name)
            return TreePlace(root, smb.spec(root))

        def in_hdfs(name: str) -> TreePlace:
            root = system.folder(name)
            return TreePlace(root, system.spec(root))

        kinds.makers = {
            "folder": folder,
            "s3": in_bucket,
            "sftp": sftp,
            "webdav": webdav,
            "smb": on_share,
            "webhdfs": in_hdfs,
            "blob": in_container,
            "swift": in_swift,
        }
        yield kinds
    shutil.rmtree(home, ignore_errors=True)
