"""Explaining: what failed by the logs, asked again of a survey, and the causes that are kept."""
