"""A trend as a picture in a file, PNG or SVG."""

from __future__ import annotations

from pathlib import Path
from zoneinfo import ZoneInfo

import matplotlib as mpl
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter
from matplotlib.figure import Figure

from phylax.core.ground.quantities import show_size
from phylax.core.trends import Trend

_GIB = 2**30
_INK, _PAPER, _MAIN, _AMBER, _LOSS = "#1d2b2f", "#f7f4ee", "#1f7a6d", "#c9821b", "#a8322c"


def save(machine: str, trend: Trend, zone: ZoneInfo, path: Path) -> None:
    """Write the picture; its form is that of the file's name."""
    with mpl.rc_context({"svg.hashsalt": "phylax", "text.color": _INK, "axes.edgecolor": _INK}):
        figure = Figure(figsize=(12.8, 6.4), facecolor=_PAPER, layout="constrained")
        axes = figure.add_subplot(facecolor=_PAPER)
        times = [point.at.astimezone(zone) for point in trend.points]
        free = [point.free / _GIB for point in trend.points]
        axes.fill_between(
            times,  # type: ignore[arg-type]
            [point.low / _GIB for point in trend.points],
            [point.high / _GIB for point in trend.points],
            color=_MAIN, alpha=0.25, linewidth=0,
        )  # fmt: skip
        axes.plot(times, free, color=_MAIN, linewidth=1.6, label="free")  # type: ignore[arg-type]
        last = trend.points[-1]
        limit = last.capacity * (100 - trend.threshold_percent) / 100
        axes.axhline(
            limit / _GIB, color=_AMBER, linestyle="--", linewidth=1.2,
            label=f"threshold, {trend.threshold_percent} % used",
        )  # fmt: skip
        for number, cleaning in enumerate(trend.cleanings):
            axes.axvline(
                cleaning.at.astimezone(zone), color=_MAIN, alpha=0.35, linewidth=0.8,  # type: ignore[arg-type]
                label="cleaning" if number == 0 else None,
            )  # fmt: skip
        _ahead(axes, trend, zone, times[-1], free[-1])
        _sudden(axes, trend, zone)
        axes.set_ylim(bottom=0)
        axes.set_ylabel("GiB free")
        locator = AutoDateLocator(tz=zone)  # type: ignore[no-untyped-call]
        axes.xaxis.set_major_locator(locator)
        axes.xaxis.set_major_formatter(
            ConciseDateFormatter(locator, tz=zone)  # type: ignore[no-untyped-call]
        )
        axes.spines[["top", "right"]].set_visible(False)
        axes.set_title(
            f"{machine} {trend.mount} – {show_size(last.free)} free of {show_size(last.capacity)}",
            loc="left",
        )
        figure.legend(frameon=False, loc="outside lower center", ncols=6)
        metadata = {"Date": None} if path.suffix == ".svg" else None
        figure.savefig(path, metadata=metadata, dpi=100)


def _ahead(axes: object, trend: Trend, zone: ZoneInfo, at: object, free: float) -> None:
    from matplotlib.axes import Axes

    assert isinstance(axes, Axes)
    cone = trend.outlook.cone if trend.outlook else ()
    until = trend.until + (trend.until - trend.since) / 2
    cone = tuple(point for point in cone if point.at <= until)
    if not cone:
        return
    times = [at, *(point.at.astimezone(zone) for point in cone)]
    axes.fill_between(
        times,  # type: ignore[arg-type]
        [free, *(point.low / _GIB for point in cone)],
        [free, *(point.high / _GIB for point in cone)],
        color=_INK, alpha=0.12, linewidth=0, label="80 % forecast range",
    )  # fmt: skip
    axes.plot(
        times,  # type: ignore[arg-type]
        [free, *(point.likely / _GIB for point in cone)],
        color=_INK, linestyle=":", linewidth=1.4, label="likely",
    )  # fmt: skip


def _sudden(axes: object, trend: Trend, zone: ZoneInfo) -> None:
    from matplotlib.axes import Axes

    assert isinstance(axes, Axes)
    changes = trend.outlook.sudden if trend.outlook else ()
    for number, change in enumerate(changes):
        if trend.since <= change.at <= trend.until:
            axes.axvline(
                change.at.astimezone(zone), color=_LOSS, linestyle="-.", linewidth=1.0,  # type: ignore[arg-type]
                label="sudden change" if number == 0 else None,
            )  # fmt: skip
