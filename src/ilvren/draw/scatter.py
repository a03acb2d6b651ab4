"""How quantities scatter: histograms with their limits, the design as it is meant, the mean, and what drives them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from ilvren.draw.style import LINES, figure, save, shades
from ilvren.errors import RequestError

if TYPE_CHECKING:
    from ilvren.explore.scatter import OutputScatter, ScatterResult

__all__ = ["draw_scatter", "draw_several"]

MOST_PANELS, BINS = 9, 32
# What lies beyond a limit is drawn in this colour.
MISSED = "#b03030"


def draw_scatter(found: ScatterResult, path: str) -> list[str]:
    """Write the quantities that scatter, those with limits first, the likeliest missed before the others; return which
    were drawn."""
    moving = [item for item in found.of if item.deviation is not None and _moves(found, item)]
    order = sorted(moving, key=lambda item: (-_misses(item), item.reserve is None, item.reserve or 0.0))
    objectives = [item for item in moving if item.output.kind == "objective"]
    chosen = (objectives[:1] + [item for item in order if item not in objectives[:1]])[:MOST_PANELS]
    names = [item.output.name for item in chosen]
    columns = 1 if len(chosen) <= 1 else 2 if len(chosen) <= 4 else 3
    rows = max(1, math.ceil(len(chosen) / columns))
    told = next((k for k, item in enumerate(chosen) if item.output.kind == "constraint"), 0)  # where a limit is drawn
    with figure(rows, columns, squeeze=False) as (made, panels):
        for place in range(rows * columns):
            panel = panels[place // columns, place % columns]
            if place >= len(chosen):
                panel.set_axis_off()
                continue
            _panel(panel, found, chosen[place], with_legend=place == told)
        works = "" if found.works is None else f", everything holds in {100.0 * found.works.value:.4g} % of them"
        made.suptitle(
            f"{found.design} as it will be made: {found.scenarios:,} scenarios{works}", fontsize=13, x=0.02, ha="left"
        )
        save(made, path)
    return names


def _moves(found: ScatterResult, item: OutputScatter) -> bool:
    values = found.values[item.output.name]
    values = values[np.isfinite(values)]
    return len(values) > 1 and bool(np.ptp(values) > 1e-12 * np.abs(values).max())


def _misses(item: OutputScatter) -> float:
    return item.misses.value if item.misses is not None else -1.0


def _panel(panel: Any, found: ScatterResult, item: OutputScatter, *, with_legend: bool) -> None:
    output = item.output
    values = found.values[output.name]
    values = values[np.isfinite(values)]
    # The outermost thousandth would squeeze all others; limits are always seen.
    low, high = np.quantile(values, [0.001, 0.999])
    ends = [low, high, item.nominal]
    width = high - low
    ends += [
        limit for limit in (output.lower, output.upper) if math.isfinite(limit) and low - width <= limit <= high + width
    ]
    first, last = min(ends), max(ends)
    room = 0.03 * (last - first)
    edges = np.linspace(first - room, last + room, BINS + 1)
    counts, _ = np.histogram(values, edges)
    middle = 0.5 * (edges[1:] + edges[:-1])
    is_missed = (middle < output.lower) | (middle > output.upper)
    share = 100.0 * counts / len(values)
    panel.bar(middle[~is_missed], share[~is_missed], width=np.diff(edges)[0], color=LINES[0][0], alpha=0.75)
    panel.bar(middle[is_missed], share[is_missed], width=np.diff(edges)[0], color=MISSED, alpha=0.85)
    for limit in (output.lower, output.upper):
        if math.isfinite(limit) and first - room <= limit <= last + room:
            panel.axvline(limit, color=shades(0), linestyle="--", linewidth=1.6, label="limit")
    panel.axvline(item.nominal, color="#222222", linewidth=1.4, label="as designed")
    assert item.mean is not None
    panel.axvline(item.mean.value, color=LINES[1][0], linewidth=1.4, linestyle=":", label="mean")
    title = output.name
    if item.misses is not None:
        title += f": {100.0 * item.misses.value:.3g} % miss"
    panel.set_title(title, fontsize=11.5, loc="left")
    drivers = sorted(found.drivers.get(output.name, {}).items(), key=lambda own: -own[1][1])[:3]
    told = "  ".join(f"{name} {100.0 * max(total, 0.0):.0f} %" for name, (_, total) in drivers if total >= 0.02)
    unit = f" [{output.unit}]" if output.unit else ""
    panel.set_xlabel(f"{output.name}{unit}" + (f"\nvariance: {told}" if told else ""), fontsize=9.5)
    panel.set_ylabel("% of scenarios", fontsize=9.5)
    panel.set_xlim(first - room, last + room)
    if with_legend:
        handles, labels = panel.get_legend_handles_labels()
        once = dict(zip(labels, handles, strict=True))
        panel.legend(once.values(), once.keys(), fontsize=9)


def draw_several(found: Sequence[ScatterResult], path: str) -> list[str]:
    """Write the quantities that designs have in common, each as outlines of its histograms; return which. Raises
    RequestError where there are none."""
    shared = [item for item in found[0].of if all(item.output.name in result.values for result in found)]
    moving = [item for item in shared if any(_moves(result, item) for result in found)]
    moving.sort(key=lambda item: (item.output.kind != "objective", item.output.kind != "constraint", -_misses(item)))
    chosen = moving[:MOST_PANELS]
    if not chosen:
        raise RequestError("these designs have no quantity that scatters in common")
    columns = 1 if len(chosen) == 1 else 2 if len(chosen) <= 4 else 3
    rows = math.ceil(len(chosen) / columns)
    with figure(rows, columns, squeeze=False) as (made, panels):
        for place in range(rows * columns):
            panel = panels[place // columns, place % columns]
            if place >= len(chosen):
                panel.set_axis_off()
                continue
            _outlines(panel, found, chosen[place], with_legend=place == 0)
        made.suptitle("as they will be made: " + ", ".join(map(_headline, found)), fontsize=12.5, x=0.02, ha="left")
        save(made, path)
    return [item.output.name for item in chosen]


def _headline(result: ScatterResult) -> str:
    works = "" if result.works is None else f" ({100.0 * result.works.value:.4g} % hold everything)"
    return f"{result.design}{works}"


def _outlines(panel: Any, found: Sequence[ScatterResult], item: OutputScatter, *, with_legend: bool) -> None:
    output = item.output
    columns = []
    for result in found:
        values = result.values[output.name]
        columns.append(values[np.isfinite(values)])
    ends = [float(end) for values in columns for end in np.quantile(values, [0.001, 0.999])]
    width = max(ends) - min(ends)
    limits = [
        x for x in (output.lower, output.upper) if math.isfinite(x) and min(ends) - width <= x <= max(ends) + width
    ]
    first, last = min([*ends, *limits]), max([*ends, *limits])
    room = 0.03 * (last - first)
    edges = np.linspace(first - room, last + room, BINS + 1)
    for k, (result, values) in enumerate(zip(found, columns, strict=True)):
        counts, _ = np.histogram(values, edges)
        colour, style, _ = LINES[k % len(LINES)]
        panel.stairs(
            100.0 * counts / len(values), edges, color=colour, linestyle=style, linewidth=1.8, label=result.design
        )
    for limit in limits:
        panel.axvline(limit, color=shades(0), linestyle="--", linewidth=1.5, label="limit")
    told = [next(own for own in result.of if own.output.name == output.name) for result in found]
    misses = [f"{100.0 * own.misses.value:.3g}" for own in told if own.misses is not None]
    panel.set_title(output.name + (f": {' / '.join(misses)} % miss" if misses else ""), fontsize=11.5, loc="left")
    panel.set_xlabel(f"{output.name} [{output.unit}]" if output.unit else output.name, fontsize=9.5)
    panel.set_ylabel("% of scenarios", fontsize=9.5)
    panel.set_xlim(first - room, last + room)
    if with_legend:
        panel.legend(fontsize=9)
