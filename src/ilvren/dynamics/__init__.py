"""What evolves over time: systems of rates, steps by error control, and exact derivatives of the steps.

Knows formulas and arrays; never files, problems or methods.
"""

from ilvren.dynamics.evolution import Control, Evolution, Input, Probe, State
from ilvren.dynamics.simulation import Simulation

__all__ = ["Control", "Evolution", "Input", "Probe", "Simulation", "State"]
