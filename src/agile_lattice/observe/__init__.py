"""What a device is doing: which of its rules are hit, which translations are in use, which neighbours do not answer."""
