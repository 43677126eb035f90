"""Differences between an intent and a device.

In come a device of the intent and what was read of the real one; out come differences with their effect and an
example packet, verdicts about every packet, and the commands that close the differences.
"""
