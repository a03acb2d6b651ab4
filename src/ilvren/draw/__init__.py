"""Figures: histories of runs, contours and curves of problems. Matplotlib is imported here and nowhere else."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.draw.agreement import draw_agreement as draw_agreement
    from ilvren.draw.closed_loop import draw_closed_loop as draw_closed_loop
    from ilvren.draw.contest import (
        draw_basins as draw_basins,
        draw_designs as draw_designs,
        draw_paths as draw_paths,
        draw_series as draw_series,
        draw_shares as draw_shares,
    )
    from ilvren.draw.contours import draw_contours as draw_contours
    from ilvren.draw.curve import draw_curve as draw_curve
    from ilvren.draw.fit import draw_fit as draw_fit
    from ilvren.draw.foretold import draw_foretold as draw_foretold
    from ilvren.draw.fronts import (
        DrawnFront as DrawnFront,
        draw_attainment as draw_attainment,
        draw_front as draw_front,
        draw_fronts as draw_fronts,
    )
    from ilvren.draw.generations import draw_generations as draw_generations
    from ilvren.draw.histories import draw_histories as draw_histories
    from ilvren.draw.pattern import draw_pattern as draw_pattern
    from ilvren.draw.plan import draw_plan as draw_plan
    from ilvren.draw.profiles import draw_profiles as draw_profiles
    from ilvren.draw.responses import draw_responses as draw_responses
    from ilvren.draw.scatter import draw_scatter as draw_scatter, draw_several as draw_several
    from ilvren.draw.sensitivity import draw_sensitivity as draw_sensitivity
    from ilvren.draw.slices import MOST_SLICES as MOST_SLICES, draw_slices as draw_slices
    from ilvren.draw.surface import draw_surface as draw_surface
    from ilvren.draw.sweep import draw_sweep as draw_sweep
    from ilvren.draw.vector import Line as Line, draw_vector as draw_vector
    from ilvren.draw.view import Extreme as Extreme, subject_of as subject_of

__getattr__, __all__ = door(
    __name__,
    {
        "agreement": "draw_agreement",
        "closed_loop": "draw_closed_loop",
        "contest": "draw_basins draw_designs draw_paths draw_series draw_shares",
        "contours": "draw_contours",
        "curve": "draw_curve",
        "fit": "draw_fit",
        "foretold": "draw_foretold",
        "fronts": "DrawnFront draw_attainment draw_front draw_fronts",
        "generations": "draw_generations",
        "histories": "draw_histories",
        "pattern": "draw_pattern",
        "plan": "draw_plan",
        "profiles": "draw_profiles",
        "responses": "draw_responses",
        "scatter": "draw_scatter draw_several",
        "sensitivity": "draw_sensitivity",
        "slices": "MOST_SLICES draw_slices",
        "surface": "draw_surface",
        "sweep": "draw_sweep",
        "vector": "Line draw_vector",
        "view": "Extreme subject_of",
    },
)
