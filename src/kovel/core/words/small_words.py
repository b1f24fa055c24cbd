"""Small words of English talk: they name no theme, and lean on what was said before. Common words, from memory."""


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


# of English talk, besides those of core/words/languages.py
TALK = _words(
    "i you he she it we they me him them my your his her its our their this that these those there here be is are was "
    "were been am "
    "do does did done have has had having would could should can will shall may might must not no nor so too very "
    "just only even also "
    "then than when while where what which who whom whose why how all any both each few more most other some such own "
    "same about "
    "above after again against before below between down during from further in into of off on once out over through "
    "to under until "
    "up with without for at by as if or because and but a an the one two said say says get got go went goes going "
    "come came know "
    "knew think thought like well yes oh really always never ever every everything something nothing thing things way "
    "much many "
    "still now back around away first last day time year years people man men woman old new good made make took take "
    "told tell put "
    "don't didn't wasn't couldn't it's that's i'm i've we're they're there's can't um uh er mean kind sort whether "
    "another nobody "
    "somebody anybody yet though since upon per let nor"
)
# a sentence that begins so leans on the one before it
LEANING = _words(
    "and but so because or nor then also too that this those these it he she they them him her his their its there "
    "which who "
    "anyway otherwise still yet therefore instead afterwards later well um uh erm yes no okay right"
)
# and one that names somebody so, near its beginning, does not say who
SOMEBODY = _words("he she they him her them his their")
