"""The one privileged part: applies plans of typed operations within bounds, writes ahead what it
does, and takes it back.

It knows operations, values of a survey and hands on this machine; no framework, no engine.
"""
