"""The rules: the compiled estate, and each of the seven steps of a request in three readings, side by side.

Each step is a folder. `decide` says what comes of one request, with its grounds; `require` what a chain needs where its
surroundings are free; `bulk` what many requests amount to at a time, in arrays.
"""
