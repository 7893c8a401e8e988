"""The screen: a Textual application that is a client of the engine like any other."""
