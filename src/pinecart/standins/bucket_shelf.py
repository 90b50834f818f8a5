"""What the stand-in object store keeps: buckets, objects, unfinished uploads; in memory, or in a
folder as well.
"""

from __future__ import annotations

import base64
import bisect
import hashlib
import json
import os
import secrets
import time
from dataclasses import asdict, dataclass, field
from pathlib import Path


@dataclass
class Thing:
    """One object. headers: content type, user metadata and checksums as they are given back."""

    etag: str
    size: int
    modified: float
    headers: dict[str, str] = field(default_factory=dict)
    body: bytes | None = None  # None: in the folder
    version: str = ""
    gone: bool = False  # the mark that a delete leaves in a bucket that keeps versions


@dataclass
class Upload:
    bucket: str
    key: str
    started: float
    headers: dict[str, str]
    parts: dict[int, tuple[str, bytes, dict[str, str]]] = field(default_factory=dict)


class Shelf:
    """folder: where objects are kept between starts; None: in memory only.   versioned: buckets
    that keep versions.

    past: what was there before, newest first; in memory only.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder
        self.buckets: dict[str, dict[str, Thing]] = {}
        self._order: dict[str, list[str]] = {}
        self.uploads: dict[str, Upload] = {}
        self.versioned: set[str] = set()
        self.past: dict[tuple[str, str], list[Thing]] = {}
        if folder:
            folder.mkdir(parents=True, exist_ok=True)
            for place in sorted(folder.iterdir()):
                if place.is_dir():
                    self._load(place)

    def _load(self, place: Path) -> None:
        """What an earlier process has kept of a bucket, with its objects in the order of bytes, as
        listings give them.
        """
        name = place.name
        self.make(name)
        things = self.buckets[name]
        for card in place.glob("*.json"):
            told = json.loads(card.read_text())
            key = told.pop("key")
            things[key] = Thing(**told)
        self._order[name] = sorted(things, key=str.encode)

    def make(self, bucket: str) -> None:
        """An empty one, which outlives the process where the shelf has a folder."""
        self.buckets[bucket] = {}
        self._order[bucket] = []
        if self._folder:
            (self._folder / bucket).mkdir(exist_ok=True)

    def drop(self, bucket: str) -> None:
        del self.buckets[bucket], self._order[bucket]
        if self._folder:
            (self._folder / bucket).rmdir()

    def _file(self, bucket: str, key: str) -> Path:
        assert self._folder
        return self._folder / bucket / hashlib.sha256(key.encode()).hexdigest()

    def put(
        self, bucket: str, key: str, body: bytes, headers: dict[str, str], etag: str = ""
    ) -> Thing:
        etag = etag or hashlib.md5(body).hexdigest()
        thing = Thing(etag, len(body), time.time(), headers, body)
        self._keep(bucket, key)
        if bucket in self.versioned:
            thing.version = secrets.token_hex(8)
        else:
            thing.version = ""
        if self._folder:
            file = self._file(bucket, key)
            new = file.with_suffix(".new")
            new.write_bytes(body)
            os.replace(new, file)
            thing.body = None
            new.write_text(json.dumps(asdict(thing) | {"key": key}))
            os.replace(new, file.with_suffix(".json"))
        if key not in self.buckets[bucket]:
            bisect.insort(self._order[bucket], key, key=str.encode)
        self.buckets[bucket][key] = thing
        return thing

    def body(
        self,
        bucket: str,
        key: str,
        thing: Thing | None = None,
        start: int = 0,
        end: int | None = None,
    ) -> bytes:
        """All of it, or from `start` up to `end`."""
        body = (thing or self.buckets[bucket][key]).body
        if body is not None:
            return body[start:end]
        with self._file(bucket, key).open("rb") as file:
            file.seek(start)
            if end is None:
                return file.read()
            return file.read(end - start)

    def _keep(self, bucket: str, key: str) -> None:
        thing = self.buckets[bucket].get(key)
        if thing is not None and bucket in self.versioned:
            thing.body = self.body(bucket, key)
            thing.version = thing.version or "null"
            past = self.past.setdefault((bucket, key), [])
            past.insert(0, thing)

    def versions(self, bucket: str, key: str) -> list[Thing]:
        """All of one key, the newest first."""
        now = self.buckets[bucket].get(key)
        return ([now] if now else []) + self.past.get((bucket, key), [])

    def delete(self, bucket: str, key: str, version: str = "") -> None:
        """The object; or one version of it for good."""
        if version:
            self._drop_version(bucket, key, version)
            return
        if bucket in self.versioned:
            self._keep(bucket, key)
            name = secrets.token_hex(8)
            mark = Thing("", 0, time.time(), version=name, gone=True)
            past = self.past.setdefault((bucket, key), [])
            past.insert(0, mark)
        if self.buckets[bucket].pop(key, None) is not None:
            self._order[bucket].remove(key)
            if self._folder:
                self._file(bucket, key).unlink()
                self._file(bucket, key).with_suffix(".json").unlink()

    def _drop_version(self, bucket: str, key: str, version: str) -> None:
        things = self.buckets[bucket]
        order = self._order[bucket]
        known = self.past.pop((bucket, key), [])
        past = [thing for thing in known if thing.version != version]
        now = things.get(key)
        if now is not None and now.version == version:
            del things[key]
            order.remove(key)
        is_gone = key not in things
        if is_gone and past and not past[0].gone:
            things[key] = past.pop(0)
            bisect.insort(order, key, key=str.encode)
        if past:
            self.past[bucket, key] = past

    def keys_after(self, bucket: str, after: str) -> list[str]:
        order = self._order[bucket]
        return order[bisect.bisect_right(order, after.encode(), key=str.encode) :]

    def start_upload(self, bucket: str, key: str, headers: dict[str, str]) -> str:
        name = secrets.token_hex(16)
        self.uploads[name] = Upload(bucket, key, time.time(), headers)
        return name


def base64_of(number: int, width: int) -> str:
    return base64.b64encode(number.to_bytes(width, "big")).decode()
