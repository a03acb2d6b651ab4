"""What intervals prove of a design: that none is better, or that it is the only strict minimum around."""
