"""The address plan, and address arithmetic.

In comes a network; out comes what every address of its blocks and subnets is used for, and what is left.
"""
