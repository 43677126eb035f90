"""Intent files and the model.

In comes YAML or JSON; out comes a `Network` in which every value knows its file and line, or all that is wrong with
the text at once. The other way round a `Network` is written as text again.
"""
