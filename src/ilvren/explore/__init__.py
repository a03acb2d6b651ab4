"""Runs as sets of designs: tables, ranks and filters. Knows runs and what they may know; prints and plots nothing."""

from ilvren.doors import door

TYPE_CHECKING = False
if TYPE_CHECKING:
    from ilvren.explore.approximating import learned as learned, relearner as relearner
    from ilvren.explore.choosing import corners as corners, exchange_rates as exchange_rates, knee as knee
    from ilvren.explore.designs import DesignTable as DesignTable, designs_of as designs_of, held_by as held_by
    from ilvren.explore.infilling import Round as Round, infilled as infilled
    from ilvren.explore.learned_surfaces import Agreement as Agreement, Learned as Learned
    from ilvren.explore.main_effects import MainEffect as MainEffect, main_effect as main_effect
    from ilvren.explore.proposing import (
        Change as Change,
        Proposal as Proposal,
        proposal_at as proposal_at,
        trusted_share as trusted_share,
    )
    from ilvren.explore.sampling import (
        Planned as Planned,
        grown as grown,
        more as more,
        planned as planned,
        planned_again as planned_again,
        planned_from as planned_from,
        read_designs as read_designs,
        sample as sample,
    )

__getattr__, __all__ = door(
    __name__,
    {
        "approximating": "learned relearner",
        "learned_surfaces": "Agreement Learned",
        "choosing": "corners exchange_rates knee",
        "designs": "DesignTable designs_of held_by",
        "infilling": "Round infilled",
        "main_effects": "MainEffect main_effect",
        "proposing": "Change Proposal proposal_at trusted_share",
        "sampling": "Planned grown more planned planned_again planned_from read_designs sample",
    },
)
