"""The computation: pure Python, no Django, no I/O, no clock, no randomness."""
