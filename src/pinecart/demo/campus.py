"""The university in the demo: a distributed file system, played by a stand-in of ours."""

from __future__ import annotations

import json
from pathlib import Path

from pinecart.client import Client
from pinecart.json_object import JsonObject

STORE = "campus"
JOB: JsonObject = {
    "job": "campus-pictures",
    "title": "Spectrograms for the university",
    "labels": ["partner"],
    "intent": "renew",
    "why": "The university works on the pictures, in its distributed file system.",
    "legs": [{"from": "pine://posts/pictures/", "to": f"pine://{STORE}/larkfell/pictures/"}],
}


def made(files: Path, port: int) -> Path:
    """Its folder, and the stand-in's configuration: the name node's port, and the next one."""
    folder = files / f"{STORE}-files"
    folder.mkdir(exist_ok=True)
    config = files / f"{STORE}.json"
    told = {"kind": "file-system", "folder": str(folder), "ports": [port, port + 1]}
    config.write_text(json.dumps(told))
    return config


def add(client: Client, port: int) -> None:
    form = {
        "name": STORE,
        "kind": "webhdfs",
        "url": f"http://127.0.0.1:{port}",
        "user": "larkfell",
    }
    client.add_store(form)
    client.try_store(STORE, write_to="/")
