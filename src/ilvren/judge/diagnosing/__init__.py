"""Why a run did not end as hoped."""
