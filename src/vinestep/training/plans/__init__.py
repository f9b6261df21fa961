"""Plans: what a run is asked to do, as a TOML file, and the run that a plan describes.

What enters here turns words of a plan into what Python could have been asked, and decides nothing
else.
"""
