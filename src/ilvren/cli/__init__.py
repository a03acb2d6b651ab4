"""The terminal: arguments in, tables, JSON and messages out. The only package besides `draw` that shows
anything, and a customer of the library: whatever a command does, a Python program can do too."""
