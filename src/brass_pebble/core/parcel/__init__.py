"""A desk, a surface or macros given to somebody else: what is in the parcel, how it fits what is here.  Pure."""
