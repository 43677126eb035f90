"""The address plan: what a block or a subnet is used for, what is left, and the arithmetic of prefixes."""
