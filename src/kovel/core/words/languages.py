"""What Kovel knows of a language: its fillers, the words that begin a question, its small words, how hesitation is
written.

The lists are common words of each language, from memory; fillers and question words can be changed by the editor. A
language without lists still has its words, pauses, repeats and sentence ends.

    French      Euh, ben, la marée, la marée fait le reste, tu vois.  Et qui tirait la chaîne ?
    proposed    ~~~~~~~~  ~~~~~~~~~                        ~~~~~~~~          question (qui)
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

from kovel.core.words.small_words import TALK
from kovel.core.words.writing import asks, ends, plain


def _words(text: str) -> tuple[str, ...]:
    return tuple(text.split())


def _phrases(text: str) -> tuple[str, ...]:
    return tuple(" ".join(phrase.split()) for phrase in text.split(","))


@dataclass(frozen=True, slots=True)
class Language:
    """A language by its ISO 639-1 code.

    `fillers`: words and phrases talk can do without; `asking`: words a question begins with; `doubled`: words said
    twice on purpose; `small`: those that tell the language and name no theme; `hesitating`: talk as it is spoken, so
    that a recogniser writes down hesitations too.
    """

    code: str
    name: str
    fillers: tuple[str, ...] = ()
    asking: tuple[str, ...] = ()
    doubled: tuple[str, ...] = ()
    small: tuple[str, ...] = ()
    hesitating: str = ""


ENGLISH = Language(
    "en",
    "English",
    _phrases("um, umm, uh, uhm, er, erm, hm, hmm, ah, you know, i mean, sort of, kind of"),
    _words(
        "who what when where why how which whose whom do does did is are was were can could would will have has had"
    ),
    _words("very no yes had that really bye so"),
    _words(
        "the of and to in is that it was for on are as with his they at be this have from or had by not but what all "
        "were we when "
        "your can said there an each which she do how their if will up other about out many then them these so some "
        "her would make "
        "like him into has two more no who whom where why being a my our us"
    ),
    "Umm, let me, let me think, uh... like, hmm. Okay, um, here's what I, I was, uh, thinking.",
)
FRENCH = Language(
    "fr",
    "French",
    _phrases("euh, heu, hum, hm, mmh, ah, ben, bah, hein, tu vois, vous voyez, tu sais, en fait, du coup, genre"),
    _words(
        "qui que quoi quel quelle quels quelles quand où comment pourquoi combien est-ce qu'est-ce avez-vous as-tu "
        "êtes-vous es-tu"
    ),
    _words("nous vous très non oui bien si"),
    _words(
        "le la les des une un est dans que qui pour pas sur ils elle elles nous vous je au aux du de et ce cette sont "
        "ont avec était on "
        "mais où quand ça comme plus tout il se sa son ses leur leurs ne en y si par mon ma mes ton ta tes été avait"
    ),
    "Euh, ben, je, je pense, euh... tu vois, hein. Bon, alors, euh, ce que je, je voulais dire, heu.",
)
SPANISH = Language(
    "es",
    "Spanish",
    _phrases("eh, em, este, mmm, ah, o sea, pues, bueno, digamos, sabes, ya sabes, es que"),
    _words("qué quién quiénes cuál cuáles cuándo cuánto cuántos cuánta cuántas dónde adónde cómo"),
    _words("muy no sí ya bien"),
    _words(
        "el los las del por para una un su sus como más pero fue que qué quién cuándo dónde es lo al la le en y con "
        "no se me mi te tu "
        "nos era había muy ya está son ser si sin sobre cuando también hay yo él ella ellos"
    ),
    "Eh, este, o sea, yo, yo creo, mmm... pues, bueno. Vale, eh, lo que yo, yo quería decir, em.",
)
GERMAN = Language(
    "de",
    "German",
    _phrases("äh, ähm, öh, hm, hmm, ah, also, halt, sozusagen, irgendwie, quasi, weißt du, wissen sie, sag ich mal"),
    _words(
        "wer was wann wo wohin woher warum wieso weshalb wie welche welcher welches wem wen haben hast sind bist ist "
        "war können kannst"
    ),
    _words("sehr nein ja doch die der das sie"),
    _words(
        "der das und ist nicht ein eine einen mit von dem den für auf sich auch wie wer wann wo warum ich wir sie vor "
        "zu im die es war "
        "haben hatte hat dass wenn aber oder nur noch mein meine unser ihr ihm ihn er du man da dann so als bei nach "
        "aus"
    ),
    "Äh, also, ich, ich denke, ähm... halt, hm. Ja, äh, was ich, ich sagen wollte, ähm.",
)
ITALIAN = Language(
    "it",
    "Italian",
    _phrases("eh, ehm, mmm, ah, cioè, diciamo, tipo, insomma, sai, allora, praticamente, come dire"),
    _words("chi che cosa quale quali quando dove come perché quanto quanti quante hai avete sei siete"),
    _words("molto no sì piano via ci"),
    _words(
        "il gli che di non per un è sono della la le lo i una uno del dei delle al alla nel nella con su da e o ma se "
        "mi ti ci si era "
        "ho ha hanno mio mia noi voi loro lui lei questo questa quello quella come più anche quando dove"
    ),
    "Ehm, cioè, io, io penso, eh... tipo, mmm. Allora, eh, quello che, che volevo dire, ehm.",
)
PORTUGUESE = Language(
    "pt",
    "Portuguese",
    _phrases("ãh, hum, é, eh, ah, tipo, quer dizer, sabe, sabes, pronto, então, digamos"),
    _words("quem que qual quais quando onde aonde como porque quanto quantos quantas você vocês"),
    _words("muito não sim já"),
    _words(
        "um os da em não uma o a as do dos das de que e é para por com no na nos nas se eu ele ela nós eles elas meu "
        "minha era foi "
        "tinha mais mas como quando muito também já só ou isso este esta"
    ),
    "Hum, é, eu, eu acho, tipo, ãh... quer dizer. Então, é, o que eu, eu queria dizer, hum.",
)
DUTCH = Language(
    "nl",
    "Dutch",
    _phrases("eh, ehm, uh, uhm, hm, ah, zeg maar, weet je, weet u, eigenlijk, gewoon, dus"),
    _words("wie wat wanneer waar waarom hoe welke welk heb heeft hebben ben bent is was kun kunt kan"),
    _words("heel nee ja die dat"),
    _words(
        "de het een en van ik je u hij zij wij we ze dat die dit deze in op te met voor niet zijn was had heeft maar "
        "om aan er ook als "
        "naar dan nog wel bij door uit over mijn onze hun haar hem"
    ),
    "Eh, ja, ik, ik denk, ehm... zeg maar, hm. Dus, eh, wat ik, ik wilde zeggen, uh.",
)
LISTED = {word_list.code: word_list for word_list in (ENGLISH, FRENCH, SPANISH, GERMAN, ITALIAN, PORTUGUESE, DUTCH)}
# the languages that the recogniser of many languages can be told (ISO 639-1 and, where there is none, 639-3), by their
# English names
NAMES = {
    name: v
    for name, _, v in (
        language_row.partition(" ")
        for language_row in """
af Afrikaans|am Amharic|ar Arabic|as Assamese|az Azerbaijani|ba Bashkir|be Belarusian|bg Bulgarian|bn Bengali
bo Tibetan|br Breton|bs Bosnian|ca Catalan|cs Czech|cy Welsh|da Danish|de German|el Greek|en English|es Spanish
et Estonian|eu Basque|fa Persian|fi Finnish|fo Faroese|fr French|gl Galician|gu Gujarati|ha Hausa|haw Hawaiian
he Hebrew|hi Hindi|hr Croatian|ht Haitian|hu Hungarian|hy Armenian|id Indonesian|is Icelandic|it Italian|ja Japanese
jw Javanese|ka Georgian|kk Kazakh|km Khmer|kn Kannada|ko Korean|la Latin|lb Luxembourgish|ln Lingala|lo Lao
lt Lithuanian|lv Latvian|mg Malagasy|mi Maori|mk Macedonian|ml Malayalam|mn Mongolian|mr Marathi|ms Malay|mt Maltese
my Burmese|ne Nepali|nl Dutch|nn Norwegian Nynorsk|no Norwegian|oc Occitan|pa Punjabi|pl Polish|ps Pashto
pt Portuguese|ro Romanian|ru Russian|sa Sanskrit|sd Sindhi|si Sinhala|sk Slovak|sl Slovenian|sn Shona|so Somali
sq Albanian|sr Serbian|su Sundanese|sv Swedish|sw Swahili|ta Tamil|te Telugu|tg Tajik|th Thai|tk Turkmen|tl Tagalog
tr Turkish|tt Tatar|uk Ukrainian|ur Urdu|uz Uzbek|vi Vietnamese|yi Yiddish|yo Yoruba|zh Chinese
""".strip()
        .replace("\n", "|")
        .split("|")
    )
}
HESITATIONS = frozenset(
    _words("um umm uh uhm er erm hm hmm ah euh heu hum mmh mmm eh ehm äh ähm öh ãh")
)  # sounds, in any of these
_OTHERS = frozenset(
    word
    for this_language in LISTED.values()
    if this_language is not ENGLISH
    for word in (*this_language.small, *this_language.asking)
)
ENGLISH_ALONE = frozenset(ENGLISH.small) - _OTHERS  # small words of English and of none of the others
# and those of the others that are none of English talk
OTHER = (
    _OTHERS - frozenset(ENGLISH.small) - TALK - frozenset(_words("die hat war son sin met door plus par mas ten"))
) | {"¿"}


def language(code: str) -> Language:
    """What is known of a language; nothing but its code and name where there are no lists."""
    return LISTED.get(code) or Language(code, NAMES.get(code, code))


def asked(text: str, of: Language) -> bool:
    """Whether a sentence is a question: by its mark, or by the word that it begins with where nothing ends it."""
    first = text.split(maxsplit=1)[:1]
    return asks(text) or (
        not ends(text.rstrip()) and bool(first) and plain(first[0]) in {plain(word) for word in of.asking}
    )


def guessed(texts: Iterable[str], least: int = 8) -> str:
    """The language that written talk is in, as far as its small words tell: a code of LISTED, or nothing where they
    do not."""
    guessed_languages: Counter[str] = Counter()
    for text in texts:
        for word in text.split():
            bare = plain(word)
            guessed_languages.update(code for code, small in _SMALL.items() if bare in small)
    (first, n), (_, second) = guessed_languages.most_common(2) if len(guessed_languages) > 1 else (("", 0), ("", 0))
    return first if n >= least and n > 1.3 * second else ""


_SMALL = {code: frozenset(plain(word) for word in this_language.small) for code, this_language in LISTED.items()}
