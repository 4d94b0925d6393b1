"""Compiled kernels. Plain functions over the record arrays of ``echotally.engine.layout``.

No globals but constants, no I/O; everything a kernel needs is in the world ``w`` it is handed, so a run
can stop after any step (progress, Ctrl-C, more room) and go on as if nothing had happened.
"""
