"""Stand-ins: devices of the fictional vendors, to practise on. They ship with the package and need no rights.

In come an intent and what goes wrong on demand; out come servers of SSH, each with the command line of its vendor.
"""
