"""The museum in the demo: an SFTP server of Debian's, where its package is installed."""

from __future__ import annotations

import os
from pathlib import Path

import asyncssh

from pinecart.client import Client
from pinecart.json_object import JsonObject

STORE = "museum"
SSHD = Path("/usr/sbin/sshd")
PACKAGE = "openssh-server"
JOB: JsonObject = {
    "job": "museum-sheets",
    "title": "Count sheets for the museum",
    "labels": ["partner"],
    "intent": "top-up",
    "why": "The museum keeps the sheets for good. It takes them by SFTP.",
    "legs": [{"from": "pine://posts/sheets/", "to": f"pine://{STORE}/larkfell/sheets/"}],
}
CONFIG = """Port {port}
ListenAddress 127.0.0.1
HostKey {home}/host-key
PidFile {home}/pid
AuthorizedKeysFile {home}/authorized
StrictModes no
UsePAM no
PasswordAuthentication no
KbdInteractiveAuthentication no
PermitRootLogin prohibit-password
AllowTcpForwarding no
Subsystem sftp internal-sftp
ForceCommand internal-sftp
"""


def is_there() -> bool:
    return SSHD.exists()


def made(files: Path, port: int) -> list[str]:
    """Its folder, its keys and its configuration. Gives the command that starts it."""
    home = files / f"{STORE}-server"
    folder = files / STORE
    home.mkdir(mode=0o700, exist_ok=True)
    folder.mkdir(exist_ok=True)
    for name in ("host-key", "user-key"):
        file = home / name
        if not file.exists():
            key = asyncssh.generate_private_key("ssh-ed25519")
            file.touch(mode=0o600)
            key.write_private_key(file)
            key.write_public_key(home / f"{name}.pub")
    public = home / "user-key.pub"
    authorized = home / "authorized"
    authorized.write_bytes(public.read_bytes())
    config = home / "config"
    log = home / "log"
    config.write_text(CONFIG.format(port=port, home=home))
    if not os.geteuid():  # it insists on this folder where it may change accounts
        Path("/run/sshd").mkdir(exist_ok=True)
    return [str(SSHD), "-D", "-f", str(config), "-E", str(log)]


def add(client: Client, files: Path, port: int, account: str) -> None:
    """The store; trying it pins the host key that it shows."""
    home = files / f"{STORE}-server"
    form = {
        "name": STORE,
        "kind": "sftp",
        "host": "127.0.0.1",
        "port": str(port),
        "user": account,
        "private_key": (home / "user-key").read_text(),
        "root": str(files / STORE),
    }
    client.add_store(form)
    client.try_store(STORE, write_to="/")
