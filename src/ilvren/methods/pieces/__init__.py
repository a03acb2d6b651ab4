"""What several methods share: evaluated points, line searches, second-order checks. Knows the protocol and arrays."""
