"""The exit statuses."""

HOLDS = 0  # the thing asked holds, or a listing was printed
DOES_NOT_HOLD = 1  # it ran and does not hold
WRONG_REQUEST = 2  # the request or a file is wrong
OUR_BUG = 3  # an exception nobody foresaw; the traceback is kept
MACHINE_FAILED = 4  # disk full, ledger locked
INTERRUPTED = 130  # Ctrl-C
TERMINATED = 143  # a termination signal
