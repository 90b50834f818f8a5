"""From which sizes on an object goes another way."""

from __future__ import annotations

from typing import NamedTuple


class Sizes(NamedTuple):
    """copied_whole: what a store copies in one request, at most (S3 API, CopyObject).   part: of
    what is sent in parts; 0: by its size.
    """

    copied_whole: int = 5 << 30
    part: int = 0
