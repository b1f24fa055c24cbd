"""The rules and the computation: pure Python and numpy, no files, no database, no web. Each imports what stands to its
right.

checks  ->  plan  ->  story  ->  words  ->  sound | picture  ->  time  ->  told
"""
