"""Surveys: loaded into records, and the scenes of those that are asked."""
