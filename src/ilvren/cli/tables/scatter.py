"""What scatters, how designs fare, and what a run about scatter is told to be, as tables."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.table import Table
from rich.text import Text

from ilvren.cli.tables.table import limits_text, number, small, table

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.explore.scatter import OutputScatter, ScatterResult
    from ilvren.runs import RunResult
    from ilvren.scatter import Interval

__all__ = ["scattered_table", "show_counted", "show_scatter", "show_several"]

# Rows of what is counted, scattered names, quantities, those with drivers, drivers of each, causes of a scenario.
MOST_ROWS, MOST_NAMES = 12, 24
MOST_OUTPUTS, MOST_DRIVEN, MOST_DRIVERS, MOST_CAUSES = 24, 12, 5, 3
# Rows of one limit that are shown each for itself.
MOST_OF_ONE = 4


def scattered_table(rows: Sequence[tuple[str, str, float, float, str]]) -> Table:
    """Return the table of what scatters: (name, law, value as designed, deviation, unit)."""
    cells = [
        (name, law, number(value), number(deviation, 4), unit)
        for name, law, value, deviation, unit in rows[:MOST_NAMES]
    ]
    if len(rows) > MOST_NAMES:
        cells.append((f"and {len(rows) - MOST_NAMES} more", "", "", "", ""))
    return table(("what scatters", "law", ">as designed", ">deviation", "unit"), cells)


def show_counted(result: RunResult, terminal: Terminal) -> None:
    """Print what is counted: what the method searched, and what fresh scenarios say."""
    told = result.scatter
    assert told is not None
    objective = result.problem.objective
    limits = {row.name: limits_text(row.lower, row.upper) for row in result.constraints}
    counted = {row.name: row.value for row in result.constraints}
    if objective is not None and result.objective is not None:
        counted[objective.name] = result.objective
    rows = []
    for name, fresh in told.fresh.items():
        if not _scatters(fresh):
            continue
        searched = told.searched.get(name, (counted[name], 0.0))[0]
        rows.append(
            (
                name,
                number(searched),
                number(counted[name]),
                number(fresh.value),
                f"{number(fresh.low, 5)} .. {number(fresh.high, 5)}",
                limits.get(name, ""),
            )
        )
    if not rows:
        return
    head = f">counted over {told.scenarios:,}"
    terminal.show(
        table(("about scatter", ">searched", head, ">over ten fresh sets", "interval", "limit"), rows[:MOST_ROWS])
    )
    if len(rows) > MOST_ROWS:
        terminal.show(f"and {len(rows) - MOST_ROWS} more (--json has all)")
    if objective is not None and objective.name in told.fresh and result.objective is not None:
        fresh = told.fresh[objective.name]
        gain = objective.sign * (fresh.value - result.objective)
        if _scatters(fresh) and result.objective != 0.0:
            share = 100.0 * abs(gain / result.objective)
            word = "better" if gain > 0.0 else "worse"
            terminal.show(f"on its own scenarios {objective.name} looked {share:.2g} % {word} than on fresh ones")


def _scatters(told: Interval) -> bool:
    return told.high - told.low > 1e-10 * max(abs(told.low), abs(told.high))


def show_scatter(terminal: Terminal, found: ScatterResult) -> None:
    """Print how a design fares."""
    how = "by its slopes, nothing evaluated"
    if found.scenarios:
        how = f"{found.scenarios:,} scenarios"
    elif found.evaluations:
        how = f"around its design points, {found.evaluations:,} evaluations"
    where = f" ({found.run})" if found.run else ""
    terminal.show(Text(f"{found.design} as it will be made: {how}{where}", style="bold"))
    terminal.show(scattered_table(found.scattered))
    grouped = _grouped(found)
    shown = grouped[:MOST_OUTPUTS]
    terminal.show(table(_HEADS, [_quantity(item, told) for item, told in shown]))
    left = len(grouped) - len(shown) + found.left_out
    if left:
        terminal.show(f"and {left} more quantities; --of NAME shows them")
    if len(found.ways) > 1:
        beside = [row for item, _ in grouped if (row := _side_by_side(item)) is not None]
        if beside:
            heads = ("misses of", ">counted", ">by slopes", ">index", ">at its design point", ">sampled around it")
            terminal.show(table(heads, beside[:MOST_OUTPUTS]))
            if len(beside) > MOST_OUTPUTS:
                terminal.show(f"and {len(beside) - MOST_OUTPUTS} more (--json has all)")
    if found.works is not None:
        word = "green bold" if found.works.value >= 0.99 else "bold"
        terminal.show(
            Text.assemble(
                "everything holds in ", (_percent(found.works.value), word), f" of the scenarios{_between(found.works)}"
            )
        )
    _show_points(terminal, found)
    _show_drivers(terminal, found)
    _show_worst(terminal, found)
    for note in found.notes:
        terminal.show_sentence(note, indent="")


_HEADS = ("quantity", ">as designed", ">mean", ">deviation", ">5 %", ">95 %", "limit", ">reserve", "misses", "unit")


def _grouped(found: ScatterResult) -> list[tuple[OutputScatter, str]]:
    """Return what is shown of all quantities: of a limit with many rows the one that is missed most, or nearest to
    being missed, and how many it stands for."""
    rows: dict[str, list[OutputScatter]] = {}
    for item in found.of:
        if item.output.kind == "constraint":
            rows.setdefault(item.output.entry, []).append(item)

    def missed(item: OutputScatter) -> tuple[float, float]:
        share = item.misses.value if item.misses is not None else item.linear.get("misses", 0.0)
        return -share, math.inf if item.reserve is None else item.reserve

    kept = []
    for item in found.of:
        own = rows.get(item.output.entry, [item]) if item.output.kind == "constraint" else [item]
        if len(own) <= MOST_OF_ONE:
            kept.append((item, ""))
        elif item is min(own, key=missed):
            kept.append((item, f" (worst of {len(own)})"))
    return kept


def _quantity(item: OutputScatter, told: str) -> tuple[str, ...]:
    output = item.output
    mean = item.mean.value if item.mean is not None else item.linear.get("mean")
    deviation = item.deviation.value if item.deviation is not None else item.linear.get("deviation")
    misses = ""
    if item.misses is not None:
        misses = f"{_percent(item.misses.value)}{_between(item.misses)}"
    elif "misses" in item.linear:
        misses = f"{_percent(item.linear['misses'])} by slopes"
    elif item.rare is not None and item.rare.is_found:
        best = item.rare.sampled
        misses = f"{_rare(item.rare.share if best is None else best.value)}"
    low, high = item.quantiles.get("0.05"), item.quantiles.get("0.95")
    is_limit = output.kind == "constraint"
    reserve = "" if item.reserve is None or not math.isfinite(item.reserve) else f"{item.reserve:.2f}"
    return (
        output.name + told,
        number(item.nominal),
        "" if mean is None else number(mean),
        "" if deviation is None else number(deviation, 3),
        "" if low is None else number(low, 5),
        "" if high is None else number(high, 5),
        limits_text(output.lower, output.upper) if is_limit else "",
        reserve,
        misses,
        output.unit,
    )


def _percent(share: float) -> str:
    if not math.isfinite(share):
        return "-"
    if share in (0.0, 1.0):
        return f"{100 * share:.0f} %"
    small = min(share, 1.0 - share)
    digits = max(1, 1 - math.floor(math.log10(100.0 * small))) if small > 0.0 else 1
    return f"{100.0 * share:.{min(digits, 6)}f} %"


def _between(interval: Interval) -> str:
    if not (math.isfinite(interval.low) and math.isfinite(interval.high)):
        return ""
    return f" ({100.0 * interval.low:.3g} .. {100.0 * interval.high:.3g} %)"


def _rare(share: float) -> str:
    if share < 1e-20:
        return "0"
    return f"{100.0 * share:.2g} %" if share >= 1e-3 else f"{share:.1e}"


def _side_by_side(item: OutputScatter) -> tuple[str, ...] | None:
    if item.output.kind != "constraint" or (item.misses is None and not item.linear and item.rare is None):
        return None
    rare = item.rare
    counted = "" if item.misses is None else _percent(item.misses.value)
    slopes = _rare(item.linear["misses"]) if math.isfinite(item.linear.get("misses", math.nan)) else ""
    if rare is None or not rare.is_found:
        return item.output.name, counted, slopes, "" if rare is None else "none found", "", ""
    sampled = rare.sampled
    around = ""
    if sampled is not None:
        around = f"{_rare(sampled.value)} ({_rare(sampled.low)} .. {_rare(sampled.high)})"
    return item.output.name, counted, slopes, f"{rare.index:.3f}", _rare(rare.share), around


def _show_points(terminal: Terminal, found: ScatterResult) -> None:
    """Print the likeliest scenarios that miss limits."""
    rows = []
    for item, _ in _grouped(found):
        if item.rare is None or not item.rare.is_found:
            continue
        point = item.rare.point
        told = [f"{name} = {number(value, 5)} ({item.rare.moved[name]:+.1f})" for name, value in point.items()]
        more = f", one of {item.rare.points}" if item.rare.points > 1 else ""
        rows.append((item.output.name, ", ".join(told[:4]) + " …" * (len(told) > 4) + more))
    if rows:
        terminal.show(table(("limit", "first missed at (deviations from the mean)"), rows[:MOST_OUTPUTS]))
    if len(rows) > MOST_OUTPUTS:
        terminal.show(f"and {len(rows) - MOST_OUTPUTS} more (--json has all)")


def _show_drivers(terminal: Terminal, found: ScatterResult) -> None:
    rows = []
    shown = {item.output.name for item, _ in _grouped(found)}
    for name, own in found.drivers.items():
        if name not in shown:
            continue
        order = sorted(own.items(), key=lambda item: -item[1][1])
        told = [
            f"{scattered} {100.0 * max(total, 0.0):.0f} %"
            + (f" (alone {100.0 * max(first, 0.0):.0f} %)" if total - first > 0.05 else "")
            for scattered, (first, total) in order[:MOST_DRIVERS]
            if total >= 0.005
        ]
        if told:
            rows.append((name, ", ".join(told)))
    if rows:
        terminal.show(table(("variance of", "comes from"), rows[:MOST_DRIVEN]))
    if len(rows) > MOST_DRIVEN:
        terminal.show(f"and {len(rows) - MOST_DRIVEN} more (--json has all)")


def _show_worst(terminal: Terminal, found: ScatterResult) -> None:
    rows = []
    for item in found.worst:
        causes = [
            f"{name} = {number(value, 5)} ({far:+.1f})" + (f" {100.0 * share:.0f} %" if math.isfinite(share) else "")
            for name, value, far, share in item.causes[:MOST_CAUSES]
            if not share < 0.05
        ]
        rows.append((item.limit, number(item.value), small(item.miss), ", ".join(causes)))
    if rows:
        heads = ("worst scenarios", ">value", ">over its size", "caused by (deviations from the mean, share)")
        terminal.show(table(heads, rows))


def show_several(terminal: Terminal, found: list[ScatterResult]) -> None:
    """Print what designs come to beside each other."""
    names = list(dict.fromkeys(item.output.name for result in found for item, _ in _grouped(result)))[:MOST_OUTPUTS]
    rows = []
    for name in names:
        own = [next((item for item in result.of if item.output.name == name), None) for result in found]
        first = next(item for item in own if item is not None)
        output = first.output
        cells = []
        for item in own:
            if item is None or (item.mean is None and not item.linear):
                cells.append("-")
                continue
            mean = item.mean.value if item.mean is not None else item.linear["mean"]
            deviation = item.deviation.value if item.deviation is not None else item.linear["deviation"]
            misses = item.misses.value if item.misses is not None else item.linear.get("misses")
            told = f"{number(mean, 5)} ± {number(deviation, 2)}"
            cells.append(told + (f", {_percent(misses)} miss" if misses else ""))
        rows.append(
            (name, *cells, limits_text(output.lower, output.upper) if output.kind == "constraint" else "", output.unit)
        )
    works = [result.works for result in found]
    if all(item is not None for item in works):
        shares = [f"{_percent(item.value)}{_between(item)}" for item in works if item is not None]
        rows.append(("everything holds", *shares, "", ""))
    heads = ("mean ± deviation", *(f">{result.design}" for result in found), "limit", "unit")
    terminal.show(table(heads, rows))
    for result in found:
        for note in result.notes:
            terminal.show_sentence(f"{result.design}: {note}", indent="")
