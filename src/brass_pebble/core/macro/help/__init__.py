"""What helps to write macros: words that could come next, colours, the reference, marks of lists."""
