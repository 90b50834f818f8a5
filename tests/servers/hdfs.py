"""The stand-in of a distributed file system, with a folder for each test."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from pinecart.standins.file_system import FileSystem


class Hdfs(FileSystem):
    def folder(self, name: str) -> Path:
        root = self.root / name
        root.mkdir(parents=True)
        return root

    def spec(self, root: Path | str = "", **more: object) -> dict[str, object]:
        below = f"/{Path(root).relative_to(self.root)}" if root else ""
        who = {"token": self.token} if self.token else {"user": "larkfell"}
        return {"kind": "webhdfs", "url": self.url, "root": below, **who} | more


@contextlib.contextmanager
def hdfs(home: Path, **habits: str) -> Iterator[Hdfs]:
    home.mkdir(exist_ok=True)
    with Hdfs(home, **habits) as system:
        assert isinstance(system, Hdfs)
        yield system
