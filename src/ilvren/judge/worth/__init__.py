"""What a verified design is worth: what its limits, parameters and tolerances cost, and how it is rounded."""
