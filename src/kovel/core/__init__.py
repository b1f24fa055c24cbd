"""The rules and the computation: pure Python and numpy, no files, no database, no web.

checks  ->  plan  ->  story  ->  words  ->  sound | picture  ->  time        each imports only what stands to its right
"""
