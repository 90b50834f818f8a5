"""The options of a job and of its legs. A new one is an OptionSpec in one of these modules, and its
use in the engine; the API, job files, the command line, the console's form, the sentences and the
definition's digest follow from it.
"""

from __future__ import annotations

from pinecart.core.options.intent import INTENT
from pinecart.core.options.of_jobs import JOB_OPTIONS
from pinecart.core.options.of_legs import LEG_OPTIONS
from pinecart.core.options.registry import KEPT_DAYS, OPTIONS, REMOVING, add, of_use

__all__ = [
    "INTENT",
    "JOB_OPTIONS",
    "KEPT_DAYS",
    "LEG_OPTIONS",
    "OPTIONS",
    "REMOVING",
    "add",
    "of_use",
]
