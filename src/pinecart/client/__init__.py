"""The Python library: everything the service can do, over HTTP. Needs httpx only.

from pinecart.client import Client

with Client("http://127.0.0.1:8750", token="pct_…") as cart:
    run = cart.start("dawn-recordings")
    for event, told in cart.follow(run["id"]):
        print(event, told)
"""

from pinecart.client.api import Client
from pinecart.client.errors import (
    ClientError,
    Conflict,
    InvalidRequest,
    NotAllowed,
    NotFound,
    NotSignedIn,
    ServiceUnreachable,
    StoreTrouble,
    TooSlow,
)

__all__ = [
    "Client",
    "ClientError",
    "Conflict",
    "InvalidRequest",
    "NotAllowed",
    "NotFound",
    "NotSignedIn",
    "ServiceUnreachable",
    "StoreTrouble",
    "TooSlow",
]
