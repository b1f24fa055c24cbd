"""A paper as PDF (ISO 32000), to be printed or sent: A4 across, headings on every page, words as wide as there is
room."""

from collections.abc import Sequence
from importlib import resources
from pathlib import Path

from fpdf import FPDF
from fpdf.enums import TableBordersLayout
from fpdf.fonts import FontFace, TTFFont

from kovel.exchange.documents import Document

FACE = resources.files("kovel.media").joinpath("fonts/source-serif-4.ttf")
SIZE, SMALL, LINE = 9.5, 7.5, 4.6  # points of words and of what stands above them, millimetres of a line
MARGIN = 14.0
INK, SOFT, RULE = (33, 28, 23), (110, 100, 88), (200, 190, 172)
MOST = 52.0  # millimetres of a column that is not the last


class _Page(FPDF):
    """Pages that are numbered, under the name of what they belong to."""

    def __init__(self, about: str, others: Sequence[Path]) -> None:
        super().__init__("landscape", "mm", "A4")
        self.add_font("words", "", str(FACE))
        for index, path in enumerate(others):
            self.add_font(f"other {index}", "", str(path))
        self.set_fallback_fonts([f"other {n}" for n in range(len(others))], exact_match=False)
        self.about = written(self, about)
        self.set_margin(MARGIN)
        self.set_auto_page_break(True, MARGIN + 4)
        self.set_creator("Kovel")

    def footer(self) -> None:
        """What the paper is of, and the number of the page."""
        self.set_y(-MARGIN)
        self.set_font("words", "", SMALL)
        self.set_text_color(*SOFT)
        self.cell(0, 5, self.about)
        self.set_x(MARGIN)
        self.cell(0, 5, f"{self.page_no()} of {{nb}}", align="R")


def to_pdf(paper: Document, project: str, story: str, length: str, others: Sequence[Path] = ()) -> bytes:
    """The paper of a story of this length, as the bytes of a file. `others`: fonts (TTF, OTF) for letters that its
    own face lacks."""
    pdf = _Page(f"{project}, {story}", others)
    pdf.set_title(f"{paper.title}: {pdf.about}")
    pdf.alias_nb_pages()
    pdf.add_page()
    pdf.set_text_color(*INK)
    pdf.set_font("words", "", 18)
    pdf.cell(0, 9, paper.title, new_x="LMARGIN", new_y="NEXT")
    pdf.set_font("words", "", SIZE)
    pdf.cell(0, 6, f"{pdf.about}   {length}", new_x="LMARGIN", new_y="NEXT")
    pdf.ln(3)
    pdf.set_draw_color(*RULE)
    if not paper.rows:
        pdf.cell(0, 6, "Nothing.")
        return bytes(pdf.output())
    with pdf.table(
        col_widths=widths(pdf, paper),
        line_height=LINE,
        padding=(0.8, 1.2, 0.8, 0),
        text_align="LEFT",
        borders_layout=TableBordersLayout.HORIZONTAL_LINES,
        width=pdf.epw,
        align="LEFT",
        headings_style=FontFace(emphasis="", size_pt=SMALL, color=SOFT),
        v_align="TOP",
    ) as table:
        for paper_row in (paper.heads, *paper.rows):
            cells = table.row()
            for cell_text in paper_row:
                cells.cell(written(pdf, cell_text))
    return bytes(pdf.output())


def widths(pdf: FPDF, paper: Document) -> Sequence[float]:
    """Millimetres of each column: as wide as its widest word, or line while that is not too wide; the last has the
    rest."""
    column_widths = []
    for index, head in enumerate(paper.heads[:-1]):
        column = [head, *(paper_row[index] for paper_row in paper.rows)]
        column_width = max(pdf.get_string_width(written(pdf, cell_text)) for cell_text in column)
        word = max(
            (pdf.get_string_width(written(pdf, word)) for cell_text in column for word in cell_text.split()),
            default=0.0,
        )
        column_widths.append(min(max(word, min(column_width, MOST)), 2 * MOST) + 3)
    return [*column_widths, max(60.0, pdf.epw - sum(column_widths))]


def written(pdf: FPDF, text: str) -> str:
    """A text in letters that one of the faces has; for others stands a question mark."""
    known = [font.cmap for font in pdf.fonts.values() if isinstance(font, TTFFont)]
    return "".join(
        ch if any(ord(ch) in known_width for known_width in known) else "?" if ch.isprintable() else " " for ch in text
    )
