"""What drives what: elasticities at a design, elementary effects, variance shares, correlations; arrays in, arrays
out, but for `study`, which evaluates designs and reads those on record."""

from ilvren.explore.sensitivity.study import KINDS, Driver, Sensitivity, elasticities_at, of_designs, study, with_errors

__all__ = ["KINDS", "Driver", "Sensitivity", "elasticities_at", "of_designs", "study", "with_errors"]
