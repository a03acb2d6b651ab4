"""Whether a design is an optimum: the conditions of first and second order, kinks, and searches for a better one."""
