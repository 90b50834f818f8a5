"""Sessions in the database under a digest of their key, so that whoever reads a copy of it signs in
as nobody.
"""

from __future__ import annotations

import hashlib
from typing import cast

from django.contrib.sessions.backends import db
from django.contrib.sessions.models import Session
from django.utils import timezone

from pinecart.json_object import JsonObject


def _kept_as(key: str | None) -> str:
    return hashlib.sha256((key or "").encode()).hexdigest()[:40]


class SessionStore(db.SessionStore):
    """Django's, but for the name under which a session is kept."""

    def _get_session_from_db(self) -> Session | None:
        kept = Session.objects.filter(
            session_key=_kept_as(self.session_key), expire_date__gt=timezone.now()
        )
        found = kept.first()
        if found is None:
            self._session_key = None
        return found

    def exists(self, session_key: str) -> bool:
        return super().exists(_kept_as(session_key))

    def create_model_instance(self, data: JsonObject) -> Session:
        made = cast(Session, super().create_model_instance(data))
        made.session_key = _kept_as(made.session_key)
        return made

    def delete(self, session_key: str | None = None) -> None:
        key = session_key or self.session_key
        if key is not None:
            super().delete(_kept_as(key))
