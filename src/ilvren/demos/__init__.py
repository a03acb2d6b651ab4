"""The demos that `ilvren demo` copies: data only."""
