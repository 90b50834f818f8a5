"""The service's problem documents as errors again.

ClientError          code, message, problems (one for each thing wrong), did_you_mean
├── Unreachable      no service answers there
│   └── TooSlow      it is there, and has not answered in time; what was asked may still be done
├── NotSignedIn      no token, or one that isn't accepted
├── NotAllowed       a right is missing
├── NotFound         nothing of that name
├── Conflict         not as things stand now
├── Invalid          what was given can't be used
└── StoreTrouble     a storage system did not do what it should
"""

from __future__ import annotations

from typing import Any

from pinecart.json_object import JsonObject


class ClientError(Exception):
    """code: stable, for programs.   problem: the whole problem document."""

    def __init__(self, message: str, *, code: str, problem: JsonObject | None = None) -> None:
        """code: for programs, as the service names it.   problem: the whole answer, where the
        service gave one.
        """
        super().__init__(message)
        self.message = message
        self.code = code
        self.problem = problem or {}

    @property
    def problems(self) -> list[dict[str, str]]:
        return list(self.problem.get("problems", []))


class ServiceUnreachable(ClientError): ...


class TooSlow(ServiceUnreachable): ...


class NotSignedIn(ClientError): ...


class NotAllowed(ClientError): ...


class NotFound(ClientError): ...


class Conflict(ClientError): ...


class InvalidRequest(ClientError): ...


class StoreTrouble(ClientError): ...


BY_STATUS: dict[int, type[ClientError]] = {
    401: NotSignedIn,
    403: NotAllowed,
    404: NotFound,
    409: Conflict,
    422: InvalidRequest,
    400: InvalidRequest,
    502: StoreTrouble,
}


def from_answer(status: int, body: Any) -> ClientError:
    """body: of an answer that is none of the good ones, as JSON."""
    problem = body if isinstance(body, dict) else {}
    code = problem.get("code", f"http.{status}")
    kind = BY_STATUS.get(status, ClientError)
    if status == 401 or code.startswith("sign-in."):
        kind = NotSignedIn
    message = problem.get("detail")
    if not message:
        message = f"The service answered {status}."
    return kind(message, code=code, problem=problem)
