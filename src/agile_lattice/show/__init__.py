"""Views: terminal tables, figures, and pages; the only room that knows colours.

In come results of the core; out come text for a terminal, Matplotlib figures, HTML and Markdown.
"""
