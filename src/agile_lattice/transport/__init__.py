"""The way to devices: their configuration is captured, and changes are carried to them.

Only this room runs programs on devices. What is asked of a system stands in the file of its dialect.
"""
