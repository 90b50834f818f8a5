"""The service's figures in the Prometheus text format (version 0.0.4)."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from prometheus_client import CollectorRegistry, generate_latest
from prometheus_client.core import (
    CounterMetricFamily,
    GaugeMetricFamily,
    HistogramMetricFamily,
    Metric,
)

from pinecart import __version__
from pinecart.service.config.alive import parts_alive
from pinecart.service.config.settings import STATE
from pinecart.service.jobs.selectors import jobs_due
from pinecart.service.notices.selectors import awaited_count, waiting_count
from pinecart.service.runs.selectors.history import tallies, under_way
from pinecart.service.runs.services.tallies import STEPS_S
from pinecart.service.stores.selectors import stores_out_of_reach
from pinecart.service.trail.selectors import head_now


class Figures:
    """Collected anew each time that they are asked for."""

    def __init__(self, now: datetime) -> None:
        self._now = now

    def text(self) -> bytes:
        registry = CollectorRegistry()
        registry.register(self)
        return generate_latest(registry)

    def collect(self) -> Iterator[Metric]:
        """All of them, read from the database as they are asked for: nothing is counted beside it,
        and nothing is lost with a process.
        """
        yield from self._runs()
        waiting = GaugeMetricFamily("pinecart_runs_open", "Runs by state.", labels=["state"])
        for state, count in under_way().items():
            waiting.add_metric([state], count)
        yield waiting
        yield from self._plain()
        parts = GaugeMetricFamily(
            "pinecart_part_seconds", "Since a process last showed life.", labels=["part"]
        )
        for part, seconds in parts_alive(self._now.timestamp()).items():
            parts.add_metric([part], seconds)
        yield parts
        stores = GaugeMetricFamily(
            "pinecart_store_reached", "1: its last try succeeded.", labels=["store"]
        )
        for name, is_reached in stores_out_of_reach().items():
            stores.add_metric([name], int(is_reached))
        yield stores

    def _runs(self) -> Iterator[Metric]:
        runs = CounterMetricFamily("pinecart_runs", "Runs that ended.", labels=["outcome"])
        files = CounterMetricFamily("pinecart_files_carried", "Files carried.")
        size = CounterMetricFamily("pinecart_bytes_carried", "Bytes carried.")
        lasted = HistogramMetricFamily(
            "pinecart_run_seconds", "How long runs took.", labels=["outcome"]
        )
        rows = tallies()
        for row in rows:
            runs.add_metric([row.outcome], row.runs)
            counted = 0
            buckets = []
            for step in (*map(str, STEPS_S), "inf"):
                counted += row.lasted.get(step, 0)
                buckets.append(("+Inf" if step == "inf" else step, float(counted)))
            lasted.add_metric([row.outcome], buckets, row.seconds)
        files.add_metric([], sum(row.files for row in rows))
        size.add_metric([], sum(row.bytes for row in rows))
        yield from (runs, files, size, lasted)

    def _plain(self) -> Iterator[Metric]:
        """Figures of one number each, and the release."""
        late = [
            (self._now - record.next_due).total_seconds()
            for record in jobs_due(self._now)
            if record.next_due
        ]
        for name, words, value in (
            ("jobs_due", "Jobs that are due and not started yet.", len(late)),
            ("late_seconds", "Of the job that is due longest.", max(late, default=0)),
            ("awaited", "Things that were expected and have not come.", awaited_count()),
            ("notices_waiting", "Messages that are still to be sent.", waiting_count()),
            ("trail_lines", "Lines of the trail.", head_now().lines),
            ("disk_free_bytes", "Where the state folder lies.", STATE.free_bytes()),
            ("database_bytes", "Of the database file.", STATE.database.stat().st_size),
        ):
            yield GaugeMetricFamily(f"pinecart_{name}", words, value=value)
        release = GaugeMetricFamily("pinecart_release", "Always 1.", labels=["version"])
        release.add_metric([__version__], 1)
        yield release
