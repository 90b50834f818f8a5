"""The calls about who is told, and about the trail."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pinecart.client.door import ApiDoor
from pinecart.json_object import JsonObject


class TellingCalls(ApiDoor):
    """Notices, the mail server, the trail, proofs."""

    def notices(self) -> list[JsonObject]:
        """Who is told of what."""
        return self.ask("GET", "notices")

    def add_notice(self, notice: JsonObject) -> JsonObject:
        """way ("mail", "web"), to, kinds, job, label. Of web calls the answer has the `secret`."""
        return self.ask("POST", "notices", body=notice)

    def change_notice(self, number: int, **fields: Any) -> JsonObject:
        return self.ask("PATCH", f"notices/{number}", body=fields)

    def drop_notice(self, number: int) -> None:
        self.ask("DELETE", f"notices/{number}")

    def try_notice(self, number: int) -> JsonObject:
        """{"ok": …, "message": …}: a message now, that only tells that it is a try."""
        return self.ask("POST", f"notices/{number}/try")

    def deliveries(self, *, notice: int = 0, limit: int = 100) -> list[JsonObject]:
        """What was told to whom, and what is on its way; the newest first."""
        return self.ask("GET", "deliveries", params={"notice": notice, "limit": limit})

    def mail(self) -> JsonObject:
        """Where e-mail is handed in."""
        return self.ask("GET", "mail")

    def change_mail(self, **fields: Any) -> JsonObject:
        return self.ask("PUT", "mail", body=fields)

    def go_on_after_restore(self) -> None:
        """After a restore: jobs start by themselves again."""
        self.ask("POST", "settings/go-on")

    def room(self) -> list[JsonObject]:
        """What takes how much room in the state folder, the most first."""
        return self.ask("GET", "room")

    def trail(self, *, limit: int = 100, **asked: Any) -> list[JsonObject]:
        """Newest first. asked: who, what, which, since, until (days, UTC), before (a line's id)."""
        return self.ask("GET", "trail", params={"limit": limit, **asked})

    def verify_trail(self, lines: int | None = None, digest: str = "") -> JsonObject:
        """Whether the trail is as it was written. lines, digest: a head that was kept elsewhere."""
        given = {} if lines is None else {"lines": lines, "digest": digest}
        return self.ask("GET", "trail/verify", params=given)

    def export_trail(self) -> Iterator[bytes]:
        """The whole trail with its chain, as signed JSON lines, in pieces."""
        return self.pieces("trail/export")

    def trail_key(self) -> JsonObject:
        """{"chain_key": …, "public_key": …}: to verify an export without the service."""
        return self.ask("GET", "trail/key")

    def proof(self, number: int) -> Iterator[bytes]:
        """What a run placed, or an audit found, as signed JSON lines, in pieces."""
        return self.pieces(f"runs/{number}/proof")

    def proof_key(self) -> str:
        """The public key with which proofs are checked: Ed25519, base64."""
        return str(self.ask("GET", "proof-key")["public_key"])
