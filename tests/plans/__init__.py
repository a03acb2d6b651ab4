"""Sampling plans: what each promises, on arrays."""
