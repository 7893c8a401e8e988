"""What is said in the measurements of spoken phrases: 40 phrases, numbers, and ordinary talk, by voices of
tests/said.py."""

from __future__ import annotations

import itertools
from decimal import Decimal

from brass_pebble.core.voice.phrase import Phrase, number_slot
from brass_pebble.core.voice.wording import read_wording

# Made of the same words in other orders, so that mix-ups show.
PHRASES = (
    "oven close up", "show the hob", "wide camera", "guest camera", "table please", "next camera", "title on",
    "title off", "welcome everybody", "ring the bell", "drum roll", "bread reveal", "lamp on", "lamp off",
    "music louder", "music softer", "music off", "start recording", "stop recording", "set a marker",
    "mute the microphone", "talk to me again", "zoom into the crumb", "zoom out again",
    "page down", "page up", "scroll down", "scroll up",
    "stop scrolling", "cancel everything", "undo that", "save the project", "cut here", "play the clip", "next chapter",
    "previous chapter", "show the recipe", "hide the recipe", "dark theme", "good night everybody")
_WHO = ("my neighbour", "the baker from the harbour", "somebody in the chat", "our youngest apprentice", "grandmother",
        "the man with the hat", "a friend of mine", "the whole village", "that old miller", "the postwoman")
_DID = ("told me last week that", "always says that", "asked me whether", "was quite sure that", "once dreamed that",
        "wrote a long letter to say that", "laughed a lot because", "could hardly believe that", "never minded when",
        "wondered why")
_WHAT = ("rye needs more water than wheat does", "the flour from the mill was a little damp this morning",
         "you can leave the dough in a cold room over night", "the crust should sing when it comes out",
         "there was salt missing in the second loaf", "the train was late again and so were the rolls",
         "nobody reads the instructions before the third attempt", "it smells like rain over the marshes today",
         "a warm kitchen makes everything rise too quickly", "the cat slept on top of the bread basket",
         "butter tastes better when it is not straight from the fridge", "old ovens have their own ideas about time",
         "children like the ends and adults like the middle", "we should have started an hour earlier",
         "this is exactly how my aunt used to do it", "the market opens at six and closes around noon",
         "seeds on the outside are mostly for the eyes", "you have to wait longer than you think",
         "the new mixer makes a terrible noise", "honey and walnuts belong together",
         "a sharp knife is safer than a blunt one", "the recipe is written on the back of an envelope",
         "everyone brings a towel and an apron", "it took him forty years to learn it")


def talk(count: int) -> list[str]:
    """So many sentences of ordinary talk."""
    every = list(itertools.product(_WHAT, _WHO, _DID))
    # A step without a common divisor visits all of them in a mixed order.
    return [f"{who} {did} {what}" for what, who, did in (every[index * 1013 % len(every)] for index in range(count))]


def phrases(strict: int | None = None) -> dict[str, Phrase]:
    """The 40 phrases, and one with a number."""
    found = {text.replace(" ", "-"): Phrase(text.replace(" ", "-"), (read_wording(text),)) for text in PHRASES}
    slot = {"level": number_slot(Decimal(0), Decimal(100), Decimal(1))}
    found["level"] = Phrase("level", (read_wording("level {level}", ("level",)),), slot)
    return found


# What people say in passing: short, and so nearer to phrases than any sentence.
_SHORT = """
oh nice|yes of course|no not really|thank you very much|hello everybody|see you later|what was that|
hang on a second|i know right|that looks great|a bit more|over there|come in|well done|not yet|maybe tomorrow|
good question|where is it|let me think|one moment|who knows|that is fine|look at this|so much better|oh dear|
excuse me|why not|never mind|just like that|as you can see|first of all|in the meantime|how are you|very good|
what a mess|too hot|be careful|give me that|pass the salt|more flour please|it is ready|wait for it|
almost done|i forgot|my mistake|sounds good|are you sure|on the other hand|the other one|right here|this way|
after that|before lunch|a little later|half an hour|some water|cold butter|a wooden spoon|wash your hands|
mind the step|close the door|open a window|turn around|sit down|stand up|come back|take two|leave it there|
put it down|pick it up|hold this|try again|once more|again please|the phone rings|who is there|good morning|
good evening|sleep well|happy birthday|best of luck|no problem|you are welcome|i agree|that is true|
not at all|absolutely|exactly|interesting|wonderful|perfect|terrible|actually|probably|definitely|sorry|
cheers|okay then|right
""".replace("\n", "").strip()


def short_talk() -> list[str]:
    """What people say in passing, a few words at a time."""
    return _SHORT.split("|")
