"""The windows of a desktop: looked at, waited for, brought to the front, closed, put into place."""
