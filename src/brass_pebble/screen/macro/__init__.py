"""The Macro view: a macro's text beside its lanes, recorded, rehearsed, played."""
