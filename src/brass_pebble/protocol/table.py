"""Every request and every topic by its word.  A new one is a class in one of these files, and nothing else."""

from __future__ import annotations

from functools import cache
from types import ModuleType

from . import asking, desk, devices, giving, labels, layers, macros, motion, network, topics, usage, voice
from .base import News, Request

# In the order in which the reference tells them.
GROUPS: tuple[ModuleType, ...] = (desk, devices, layers, motion, network, labels, usage, giving, macros, asking, voice)


def word_of(kind: type[Request] | type[News]) -> str:
    """The word of a request or a topic."""
    return str(kind.__struct_config__.tag)


@cache
def group_of(module: ModuleType) -> tuple[type[Request], ...]:
    """The requests that a file declares, in its order."""
    return tuple(kind for kind in vars(module).values()
                 if isinstance(kind, type) and issubclass(kind, Request) and kind.__module__ == module.__name__
                 and word_of(kind) != kind.__name__)


@cache
def requests() -> dict[str, type[Request]]:
    """Every request by its word."""
    return {word_of(kind): kind for module in GROUPS for kind in group_of(module)}


@cache
def news() -> dict[str, type[News]]:
    """Every topic's news by its word."""
    return {word_of(kind): kind for kind in vars(topics).values()
            if isinstance(kind, type) and issubclass(kind, News) and kind is not News}


# What can be followed; `missed` comes by itself.
TOPICS = tuple(word for word in news() if word != "missed")
