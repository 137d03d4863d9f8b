"""Ecumen's core: a survey in, an answer out. No framework, no clock, no network."""
