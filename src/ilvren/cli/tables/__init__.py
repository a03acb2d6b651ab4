"""Tables of the terminal, by what they show. Each takes results and a terminal; none computes."""
