"""The options of a job and of its legs. A new one is an OptionSpec in one of these modules, and its
use in the engine; the API, job files, the command line, the console's form, the sentences and the
definition's digest follow from it.
"""

from __future__ import annotations

# In the order in which forms ask for them; each module adds its own.
# isort: off
from pinecart.core.options.intent import INTENT
from pinecart.core.options import of_jobs, of_legs, of_timing, of_expecting, of_auditing, of_logging

# isort: on
from pinecart.core.options.registry import KEPT_DAYS, OPTIONS, REMOVING, add, of_use

__all__ = [
    "INTENT",
    "KEPT_DAYS",
    "OPTIONS",
    "REMOVING",
    "add",
    "of_auditing",
    "of_expecting",
    "of_jobs",
    "of_legs",
    "of_logging",
    "of_timing",
    "of_use",
]
