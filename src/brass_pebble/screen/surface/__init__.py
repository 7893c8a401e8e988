"""The Surface view: one surface large, its layers as sheets, and the gestures of the selected control beside it."""
