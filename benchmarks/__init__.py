"""Speed claims as ratios measured in one run; `make bench` prints them."""
