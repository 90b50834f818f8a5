"""The web process, as the nursery begins it: serves until it is told to end."""

from __future__ import annotations

import warnings
from collections import Counter
from importlib import import_module
from typing import Any

import uvicorn
from django.core.asgi import get_asgi_application

from pinecart.service.config.connections import Connection, raise_limits
from pinecart.service.config.gate import Gate
from pinecart.service.config.process import end_with_parent
from pinecart.service.config.settings import OPTIONS

django = get_asgi_application()
import_module("pinecart.service.config.urls")  # every call's code, before the first one comes
application: Any = Gate(
    django,
    OPTIONS.known_as,
    import_module("pinecart.service.people.sign_in").known,
    Counter(),
    Counter(),
)


def main() -> None:
    end_with_parent()
    raise_limits()
    # The console's files are small and come from WhiteNoise, which is synchronous: nothing is lost
    # by reading them whole.
    warnings.filterwarnings(
        "ignore", message="StreamingHttpResponse must consume synchronous iterators"
    )
    uvicorn.run(
        application,
        http=Connection,
        host=OPTIONS.host,
        port=OPTIONS.port,
        log_level="warning",
        timeout_graceful_shutdown=2,
        server_header=False,
        lifespan="off",
        proxy_headers=bool(OPTIONS.behind),
        forwarded_allow_ips=list(OPTIONS.behind),
        ssl_certfile=OPTIONS.certificate or None,
        ssl_keyfile=OPTIONS.key or None,
    )
