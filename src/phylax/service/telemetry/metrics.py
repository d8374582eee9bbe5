"""Measures for other systems, as OpenMetrics or in Prometheus' text form.

What can be counted in the store is read when it is asked for, from what is kept up; only requests
are counted here, since the service's start.
"""

from __future__ import annotations

from collections.abc import Iterator

from prometheus_client import CollectorRegistry, Counter, Histogram
from prometheus_client.core import GaugeMetricFamily, InfoMetricFamily, Metric
from prometheus_client.exposition import choose_encoder
from prometheus_client.registry import Collector

from phylax import __version__
from phylax.store.file.database import Database
from phylax.store.trends import measures as store

_SECONDS = (0.005, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 10, 60)


class Measures:
    """One service's measures."""

    def __init__(self, database: Database) -> None:
        self._registry = CollectorRegistry()
        self._requests = Counter(
            "phylax_requests", "Requests answered.", ["method", "route", "status"],
            registry=self._registry,
        )  # fmt: skip
        self._seconds = Histogram(
            "phylax_request_duration_seconds", "Time to answer a request.", ["route"],
            buckets=_SECONDS, registry=self._registry,
        )  # fmt: skip
        self._registry.register(_Shop(database))

    def request(self, method: str, route: str, status: int, seconds: float) -> None:
        self._requests.labels(method, route, str(status)).inc()
        self._seconds.labels(route).observe(seconds)

    def exposed(self, accept: str) -> tuple[bytes, str]:
        """All measures, in the form that was asked for, and its media type."""
        encode, media_type = choose_encoder(accept)
        return encode(self._registry), media_type


class _Shop(Collector):
    def __init__(self, database: Database) -> None:
        self._db = database

    def describe(self) -> list[Metric]:
        """Nothing is asked of the store before somebody asks for the measures."""
        return []

    def collect(self) -> Iterator[Metric]:
        with self._db.read() as conn:
            counts = store.counts(conn)
            volumes = list(store.volumes(conn))
        yield InfoMetricFamily("phylax", "The service.", {"version": __version__})
        for name, text, value in (
            ("machines", "Machines of the shop.", counts.machines),
            ("machines_enrolled", "Machines with an agent.", counts.enrolled),
            ("machines_heard", "Machines heard of within a day.", counts.heard),
            ("outlooks_due", "Outlooks waiting to be calculated again.", counts.outlooks_due),
        ):
            yield GaugeMetricFamily(f"phylax_{name}", text, value)
        yield _by("attention", "What needs a person.", "cause", counts.attention)
        yield _by("runs", "Runs that wait or work.", "state", counts.runs)
        yield _by("notices", "Notices by state.", "state", counts.notices)
        freed = GaugeMetricFamily(
            "phylax_freed_last_week_bytes", "Freed since Monday, by category.", labels=["category"]
        )
        for category, size in counts.freed.items():
            freed.add_metric([category], size)
        yield freed
        yield from _volumes(volumes)


def _by(name: str, text: str, label: str, counts: dict[str, int]) -> Metric:
    family = GaugeMetricFamily(f"phylax_{name}", text, labels=[label])
    for key, count in counts.items():
        family.add_metric([key], count)
    return family


def _volumes(volumes: list[store.VolumeMeasure]) -> Iterator[Metric]:
    labels = ["machine", "client", "volume"]
    size = GaugeMetricFamily("phylax_volume_size_bytes", "Capacity of a volume.", labels=labels)
    free = GaugeMetricFamily("phylax_volume_free_bytes", "Free on a volume.", labels=labels)
    read = GaugeMetricFamily(
        "phylax_volume_read_timestamp_seconds", "When a volume was last read.", labels=labels
    )
    crosses = GaugeMetricFamily(
        "phylax_volume_crossing_timestamp_seconds",
        "When a volume likely crosses its threshold.",
        labels=labels,
    )
    for volume in volumes:
        names = [volume.machine, volume.client, volume.mount]
        size.add_metric(names, volume.capacity)
        free.add_metric(names, volume.free)
        read.add_metric(names, volume.read_at)
        if volume.crosses_at is not None:
            crosses.add_metric(names, volume.crosses_at)
    yield from (size, free, read, crosses)
