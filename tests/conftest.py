"""Property tests are not timed: how long an example takes says how busy the machine is."""

from __future__ import annotations

from hypothesis import HealthCheck, settings

settings.register_profile("untimed", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("untimed")
