"""Main effects of the variables on quantities: a row of panels for each quantity, a column for each variable."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from ilvren.draw.designs.figures import axes_of
from ilvren.draw.style import LINES, figure, save
from ilvren.errors import RequestError
from ilvren.explore import MainEffect, main_effect

if TYPE_CHECKING:
    from ilvren.explore import DesignTable

__all__ = ["draw_effects", "effects_of"]

# Quantities and variables that one figure can hold.
MOST_QUANTITIES, MOST_VARIABLES = 4, 7


def effects_of(table: DesignTable, names: Sequence[str]) -> dict[str, dict[str, MainEffect]]:
    """Return {quantity: {variable: its main effect}} of the free variables on those of `names` that are no variables;
    quantities that do not vary are left out."""
    problem = table.problem
    free = [problem.variables[place] for place in problem.free]
    variables = {variable.name for variable in problem.variables}
    found: dict[str, dict[str, MainEffect]] = {}
    for name in axes_of(table, [name for name in names if name not in variables]):
        y = table.column(name)
        own = {}
        for variable in free:
            one = main_effect(table.column(variable.name), y, is_listed=variable.kind != "continuous")
            if one is not None:
                own[variable.name] = one
        if own and np.nanmax(y) > np.nanmin(y):
            found[name] = own
    return found


def draw_effects(table: DesignTable, names: Sequence[str], path: str) -> None:
    """Write the figure to `path` (.png or .svg). Raises RequestError for too few designs."""
    effects = effects_of(table, names)
    if not effects:
        raise RequestError("too few designs with values for main effects", advice="`ilvren sample RUN --more N`")
    shown = dict(list(effects.items())[:MOST_QUANTITIES])
    every = dict.fromkeys(key for own in shown.values() for key in own)
    # Where not all fit, those that matter most.
    weight = {key: max(np.nan_to_num(own[key].share) for own in shown.values() if key in own) for key in every}
    kept = sorted(every, key=lambda key: -weight[key])[:MOST_VARIABLES]
    columns = [key for key in every if key in kept]
    units = table.units
    blocks = {block.name: block for block in table.problem.blocks if block.words}
    with figure(len(shown), len(columns), squeeze=False, sharey="row", sharex="col") as (made, panels):
        for i, (name, own) in enumerate(shown.items()):
            middle = float(np.nanmean(table.column(name)))
            for j, key in enumerate(columns):
                panel = panels[i, j]
                panel.axhline(middle, color="#777777", linewidth=0.8)
                if key in own:
                    _panel(panel, own[key])
                if i == len(shown) - 1:
                    panel.set_xlabel(f"{key} [{units[key]}]" if units.get(key) else key)
                    if key in blocks:
                        words = [str(blocks[key].shown(float(level))) for level in own[key].levels]
                        panel.set_xticks(own[key].levels, words, rotation=30, ha="right")
                    else:
                        panel.locator_params(axis="x", nbins=4)
                if j == 0:
                    panel.set_ylabel(f"{name}\n[{units[name]}]" if units.get(name) else name)
                panel.tick_params(labelsize=9)
        rest = [f"{len(effects) - len(shown)} more quantities"] if len(effects) > len(shown) else []
        rest += [f"{len(every) - len(columns)} more variables"] if len(every) > len(columns) else []
        title = table.problem.title or table.problem.source.file
        told = f"{title}: averages along each variable, {len(table.designs):,} designs"
        made.suptitle(told + (f" ({' and '.join(rest)} not shown)" if rest else ""), x=0.01, ha="left", weight="bold")
        note = "bars: ± 2 standard errors; per cent: the share of the variance that the averages explain"
        made.supxlabel(note, fontsize=10, color="#555555", x=0.01, ha="left")
        save(made, path)


def _panel(panel: object, effect: MainEffect) -> None:
    from matplotlib.axes import Axes

    assert isinstance(panel, Axes)
    color = LINES[0][0]
    panel.errorbar(
        effect.levels, effect.mean, yerr=np.nan_to_num(effect.error), fmt="o-", color=color, ecolor="#9cb6cc",
        elinewidth=2.5, markersize=4.5, linewidth=1.4,
    )  # fmt: skip
    if np.isfinite(effect.share):
        box = {"facecolor": "white", "edgecolor": "none", "alpha": 0.7, "pad": 1}
        told = f"{100.0 * effect.share:.0f} %"
        panel.text(0.97, 0.95, told, transform=panel.transAxes, ha="right", va="top", fontsize=10, bbox=box)
