"""Languages and scripts: what is taken for a filler or a question, where sentences end, how written words compare."""

import unicodedata
from dataclasses import replace

import pytest

from kovel.core.sound.pauses import Settings
from kovel.core.words.fillers import proposals, word_proposals
from kovel.core.words.languages import LISTED, NAMES, asked, guessed, language
from kovel.core.words.nearness import foreign
from kovel.core.words.transcript import Word, replaced, sentences
from kovel.core.words.writing import ASKS, ENDS, asks, ends, named, plain, together
from kovel.exchange.caption_files import read_captions, write_srt, write_vtt


def spoken(text: str) -> list[Word]:
    return [Word(w, 24_000 * i, 24_000 * i + 20_000) for i, w in enumerate(text.split())]


@pytest.mark.parametrize(
    ("code", "text", "gone"),
    [
        ("fr", "Euh, on tirait, on tirait la chaîne", ["Euh,", "on tirait,"]),
        ("fr", "nous nous sommes levés, tu vois, de bonne heure", ["tu vois,"]),
        ("fr", "le bac le bac était lourd", ["le bac"]),
        ("es", "Este, yo yo creo que sí", ["Este,", "yo"]),
        ("es", "era muy muy tarde, o sea, de noche", ["o sea,"]),
        ("de", "Ähm, wir haben, wir haben die Kette gezogen", ["Ähm,", "wir haben,"]),
        ("de", "die die Kette zogen, waren müde", []),
        ("it", "Ehm, la corda la corda teneva", ["Ehm,", "la corda"]),
        ("pt", "Hum, a gente puxava, quer dizer, à mão", ["Hum,", "quer dizer,"]),
        ("nl", "Ehm, wij trokken, zeg maar, de ketting", ["Ehm,", "zeg maar,"]),
        ("en", "also euh genre halt", []),  # fillers elsewhere, words here
        (
            "ja",
            "えーと 渡し船は 渡し船は 重かった",
            ["渡し船は"],
        ),  # a language without lists: what is said twice still counts
    ],
)
def test_talk_of_each_language_loses_what_it_can_do_without(code: str, text: str, gone: list[str]) -> None:
    """Sentences as people say them; from memory."""
    words = spoken(text)
    rows = proposals([], Settings(), word_proposals(words, of=language(code)))
    assert [" ".join(w.text for w in words if r.start <= w.start and w.end <= r.end + 1) for r in rows] == gone


@pytest.mark.parametrize(
    ("code", "text", "is_asked"),
    [
        ("fr", "Qui tirait la chaîne ?", True),
        ("fr", "Où étiez-vous", True),
        ("fr", "Je sais qui tirait", False),
        ("fr", "Qui dort dîne.", False),
        ("es", "¿Quién tiraba", True),
        ("es", "cuándo empezó", True),
        ("ar", "من كان هناك؟", True),
        ("he", "מי היה שם?", True),
        ("el", "Ποιος ήταν εκεί;", True),
        ("en", "the chain; it", False),
        ("en", "the chain;", False),
        ("ja", "誰がいましたか？", True),
        ("en", "Who was there", True),
        ("en", "Who was there did not say.", False),
        ("de", "Wie hat es angefangen", True),
        ("xx", "", False),
    ],
)
def test_questions_are_known_by_their_mark_or_their_first_word(code: str, text: str, is_asked: bool) -> None:
    """The Greek question mark is what is a semicolon elsewhere (the same character by Unicode's NFC). The rest from
    memory."""
    assert asked(text, language(code)) is is_asked
    assert asks("Ποιος ήταν εκεί\u037e") and not ends("chain;")


def test_sentences_end_by_the_marks_of_their_script() -> None:
    """Unicode's property Sentence_Terminal (UAX 29) names these characters."""
    assert {"FULL STOP", "ARABIC QUESTION MARK", "DEVANAGARI DANDA", "IDEOGRAPHIC FULL STOP", "ARMENIAN FULL STOP"} <= {
        unicodedata.name(ch) for ch in ENDS
    }
    assert set(ASKS) - set(ENDS) == set()
    assert (
        ends("dit.»") and ends("اليوم؟") and ends("था।") and ends("です。」") and not ends("l'eau,") and not ends("»")
    )
    rows = sentences(spoken("Il pleut. «On part?» Oui ! हम गए। वे आए। 雨だ。 行こう。"))
    assert [r.text for r in rows] == ["Il pleut.", "«On part?»", "Oui !", "हम गए।", "वे आए।", "雨だ。", "行こう。"]


def test_every_letter_is_kept_and_compared_in_one_form() -> None:
    """NFC (UAX 15): a letter and its accent compare alike with the one letter; vowel signs of Hindi are letters of
    the word."""
    assert plain("Éte\u0301,") == plain("éTÉ") == "été"
    assert plain("नदी।") == unicodedata.normalize("NFC", "नदी") and plain("नदी") != plain("नद")
    assert plain("שלום!") == "שלום" and plain("don’t.") == plain("Don't") == "don't" and plain("«…»") == ""
    assert plain("STRASSE") == plain("Straße")  # Unicode case folding
    new, n = replaced(spoken("Le bac, puis l’e\u0301té."), "bac", "ferry")
    assert n == 1 and [w.text for w in new] == ["Le", "ferry,", "puis", "l’e\u0301té."]
    assert together(["渡し", "船は", "重い。", "So", "heavy"]) == "渡し船は重い。 So heavy"
    assert together(["เรือ", "ข้าม"]) == "เรือข้าม" and together(["نحن", "نسحب"]) == "نحن نسحب" and together([]) == ""


@pytest.mark.parametrize("text", ["נמשוך את השרשרת. מי משך?", "نحن نسحب السلسلة. من سحب؟", "Où était-ce ? À l’île."])
def test_captions_give_back_every_letter(text: str) -> None:
    """Through WebVTT (W3C) and SubRip and back, letters of any direction and in their order."""
    words = [replace(w, speaker="Odile") for w in spoken(text)]
    back = read_captions(write_vtt(words)).words
    assert [(w.text, w.speaker) for w in back] == [(w.text, "Odile") for w in words]
    assert " ".join(w.text for w in read_captions(write_srt(words)).words) == text


def test_names_before_a_colon_in_any_script() -> None:
    assert named("Élodie: on tirait") == ("Élodie", "on tirait") and named("Ødegård Jr.: ja") == ("Ødegård Jr.", "ja")
    assert (
        named("מרים: משכנו") == ("מרים", "משכנו")
        and named("at 10: we") == ("", "at 10: we")
        and named("10: we") == ("", "10: we")
    )


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("we hauled the ferry across by hand and the tide did the rest of it for us", "en"),
        ("on tirait le bac à la main et la marée faisait le reste pour nous dans la nuit", "fr"),
        ("tirábamos de la cadena con las manos y la marea hacía el resto por nosotros en la noche", "es"),
        ("wir haben die Fähre mit der Hand gezogen und die Flut hat den Rest für uns gemacht", "de"),
        ("tiravamo la chiatta con le mani e la marea faceva il resto per noi di notte nella nebbia", "it"),
        ("a gente puxava a balsa com as mãos e a maré fazia o resto para nós na noite do rio", "pt"),
        ("wij trokken het veer met de hand over en het tij deed de rest voor ons in de nacht", "nl"),
        ("渡し船は重かった", ""),
        ("", ""),
        ("Maren", ""),
    ],
)
def test_written_talk_tells_its_language(text: str, code: str) -> None:
    """Sentences of ours; from memory."""
    assert guessed([text]) == code == guessed(text.split())


@pytest.mark.parametrize(
    ("question", "other"),
    [
        ("who made me come", False),
        ("did the man die in the war", False),
        ("her son met him at the door", False),
        ("where is anybody afraid", False),
        ("qui a peur", True),
        ("wer hatte Angst", True),
        ("¿quién tenía miedo?", True),
        ("quem puxava a balsa", True),
        ("chi aveva paura", True),
        ("wie trok de ketting", True),
    ],
)
def test_a_question_in_another_language_is_told_from_an_english_one(question: str, other: bool) -> None:
    assert foreign(question) is other


def test_the_lists_are_sound() -> None:
    for code, x in LISTED.items():
        assert code == x.code and NAMES[code] == x.name and x.hesitating
        for rows in (x.fillers, x.asking, x.doubled):
            assert rows and all(w == " ".join(w.split()).lower() and w for w in rows) and len(set(rows)) == len(rows), (
                code,
                rows,
            )
    assert language("sv").name == "Swedish" and language("sv").fillers == () and len(NAMES) == 99
