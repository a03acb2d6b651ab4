"""What drives what: elasticities at a design, elementary effects, variance shares, correlations; arrays in, arrays
out, but for `study`, which evaluates designs and reads those on record."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.explore.sensitivity.studying import (
        STUDIES as STUDIES,
        Driver as Driver,
        Sensitivity as Sensitivity,
        elasticities_at as elasticities_at,
        of_designs as of_designs,
        study as study,
        study_on_record as study_on_record,
        with_errors as with_errors,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "studying": "Driver STUDIES Sensitivity elasticities_at of_designs study study_on_record with_errors",
    },
)
