"""Exact algebra of sets, of numbers (`spans`) and of packets (`boxes`); it knows no device.

In come lists of boxes with what is done to their packets; out come overlaps, remainders, differences and the packets
that two lists treat differently, or `Undecided` where that would take too much work.
"""
