"""Values that formulas cannot give: sources of every kind, the calls of a run, and derivatives through them.

Knows functions, arrays and files; never formulas, problems or methods. Nothing here runs before a value is asked for.
"""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.models.calls import Calls as Calls, NotOnRecord as NotOnRecord
    from ilvren.models.codec import (
        digest_of as digest_of,
        packed_answer as packed_answer,
        packed_inputs as packed_inputs,
        unpacked_answer as unpacked_answer,
    )
    from ilvren.models.failures import CannotFollow as CannotFollow, ModelFailure as ModelFailure
    from ilvren.models.hessians import MOST_HESSIAN_INPUTS as MOST_HESSIAN_INPUTS
    from ilvren.models.places import HERE as HERE, end_group as end_group
    from ilvren.models.program.source import ProgramSource as ProgramSource
    from ilvren.models.python.signature import arguments_of as arguments_of, read_python as read_python
    from ilvren.models.python.source import PythonSource as PythonSource
    from ilvren.models.slopes import choose_steps as choose_steps, jacobian as jacobian
    from ilvren.models.source import (
        AUTOMATIC as AUTOMATIC,
        COMPLEX_STEP as COMPLEX_STEP,
        DIFFERENCES as DIFFERENCES,
        FORWARD_DIFFERENCES as FORWARD_DIFFERENCES,
        SUPPLIED as SUPPLIED,
        ModelSource as ModelSource,
        Outcome as Outcome,
        Question as Question,
        is_differenced as is_differenced,
    )
    from ilvren.models.trust import (
        is_trusting as is_trusting,
        refusal_of_place as refusal_of_place,
        trusting as trusting,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "calls": "Calls NotOnRecord",
        "codec": "digest_of packed_answer packed_inputs unpacked_answer",
        "failures": "CannotFollow ModelFailure",
        "hessians": "MOST_HESSIAN_INPUTS",
        "places": "HERE end_group",
        "program.source": "ProgramSource",
        "python.signature": "arguments_of read_python",
        "python.source": "PythonSource",
        "slopes": "choose_steps jacobian",
        "source": (
            "AUTOMATIC COMPLEX_STEP DIFFERENCES FORWARD_DIFFERENCES ModelSource Outcome Question SUPPLIED "
            "is_differenced"
        ),
        "trust": "is_trusting refusal_of_place trusting",
    },
)
