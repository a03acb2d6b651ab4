"""What evolves over time: systems of rates, steps by error control, and exact derivatives of the steps.

Knows formulas and arrays; never files, problems or methods.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.dynamics.afresh import integrated_afresh as integrated_afresh
    from ilvren.dynamics.costate_estimates import costates as costates
    from ilvren.dynamics.evolution import (
        Control as Control,
        Evolution as Evolution,
        Input as Input,
        Probe as Probe,
        State as State,
    )
    from ilvren.dynamics.fresh_course import followed_afresh as followed_afresh
    from ilvren.dynamics.gridded import (
        ControlOnGrid as ControlOnGrid,
        Deviation as Deviation,
        GriddedCourse as GriddedCourse,
    )
    from ilvren.dynamics.planning import MOST_STEPS as MOST_STEPS
    from ilvren.dynamics.simulation import Simulation as Simulation

__getattr__, __all__ = door(
    __name__,
    {
        "afresh": "integrated_afresh",
        "costate_estimates": "costates",
        "evolution": "Control Evolution Input Probe State",
        "fresh_course": "followed_afresh",
        "gridded": "ControlOnGrid Deviation GriddedCourse",
        "planning": "MOST_STEPS",
        "simulation": "Simulation",
    },
)
