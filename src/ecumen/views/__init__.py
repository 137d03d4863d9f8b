"""What the pages of the screen show of a survey, as plain values: bindings, roots, one site whole,
switches, who may, and what changed between two surveys.
"""
