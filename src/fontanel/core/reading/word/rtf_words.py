"""Control words of rich text: code pages, characters, destinations."""

from __future__ import annotations

CODE_PAGES = {
    0: "cp1252",
    77: "mac_roman",
    128: "cp932",
    129: "cp949",
    134: "gbk",
    136: "big5",
    161: "cp1253",
    162: "cp1254",
    163: "cp1258",
    177: "cp1255",
    178: "cp1256",
    186: "cp1257",
    204: "cp1251",
    222: "cp874",
    238: "cp1250",
    255: "cp437",
}


CHARACTERS = {
    "tab": "\t",
    "line": "\n",
    "lbr": "\n",
    "emdash": "—",
    "endash": "–",
    "emspace": " ",
    "enspace": " ",
    "qmspace": " ",
    "bullet": "•",
    "lquote": "‘",
    "rquote": "’",
    "ldblquote": "“",
    "rdblquote": "”",
    "nestcell": " ",
    "nestrow": "\n",
}


SYMBOLS = {"~": " ", "_": "-", "{": "{", "}": "}", "\\": "\\"}


#: Destinations without visible text, like all unknown ignorable ones.
SKIPPED = frozenset(
    [
        "annotation",
        "atnauthor",
        "atnid",
        "colortbl",
        "filetbl",
        "fldinst",
        "footer",
        "footerf",
        "footerl",
        "footerr",
        "ftnsep",
        "ftnsepc",
        "ftncn",
        "aftnsep",
        "aftnsepc",
        "aftncn",
        "header",
        "headerf",
        "headerl",
        "headerr",
        "listtable",
        "listoverridetable",
        "nonshppict",
        "objdata",
        "pict",
        "private1",
        "revtbl",
        "shprslt",
        "sn",
        "sp",
        "sv",
        "tc",
        "template",
        "xe",
    ]
)


#: Ignorable destinations that contain text: those of shapes.
SHAPES = frozenset({"shpinst"})


#: Words of a style's definition.
STYLE_WORDS = frozenset({"s", "cs", "ds", "ts", "outlinelevel", "sbasedon"})
