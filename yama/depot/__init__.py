"""The depots: stand-ins for data providers, a program of its own that speaks open standards and knows nothing of Yama.

Four sell elevation tiles through STAC 1.0 (catalogue, search, items, assets) and cut-outs through OGC API - Processes;
the fifth, Waymark, has map features behind OGC API - Features. Each can be told to be slow, down or to damage files.
"""
