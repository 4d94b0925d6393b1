"""Our own fuzzers: estates and cards made from the types that read them, valid by construction, extreme within what is legal.

``making`` makes them, ``targets`` does something with each, ``workers`` runs thousands under limits; ``scripts/nightly``
runs them by the hour, ``tests/fuzzing/test_fuzzing.py`` a short share.
"""
