"""The neutral model: devices, interfaces, routes, translations and permits as frozen values, without input or output.

In come values from the notation or from a reader; out come normal forms, in which two descriptions of one device are
equal, and the rules of each stage.
"""
