"""Paper and ink: the colours of the program, of its window as of its reports."""

from __future__ import annotations

import msgspec


class Ink(msgspec.Struct, frozen=True):
    """Colours as #RRGGBB. accent is for selection and action.  hatch: of what found no partner.

    hues: of sources, each as that of its rail, its mark and the ground of its chips.
    """

    ground: str
    paper: str
    margin: str
    band: str
    link: str
    ink: str
    soft: str
    line: str
    accent: str
    selected: str
    alarm: str
    hatch: str
    hues: tuple[tuple[str, str, str], ...]


LIGHT = Ink(
    ground="#F7F5EF",
    paper="#FFFFFF",
    margin="#F0EDE4",
    band="#ECE7DC",
    link="#FBF9F3",
    ink="#22303A",
    soft="#59636A",
    line="#DAD4C6",
    accent="#7A3B72",
    selected="#F5EAF3",
    alarm="#99392A",
    hatch="#B4AD9E",
    hues=(
        ("#46838A", "#17656C", "#E9F3F3"),
        ("#A27C38", "#7F5800", "#F9F0DF"),
        ("#A96459", "#8E3F31", "#F8E9E5"),
        ("#617391", "#3F5478", "#E9EDF5"),
        ("#728A4E", "#4B6527", "#EEF3E4"),
        ("#8A6A8F", "#5F4470", "#F0EAF2"),
        ("#7C7568", "#575042", "#F0EEE8"),
    ),
)
DARK = Ink(
    ground="#1D2328",
    paper="#232A30",
    margin="#192025",
    band="#303840",
    link="#283037",
    ink="#ECE8DE",
    soft="#AEB4B6",
    line="#3D464D",
    accent="#D79BCD",
    selected="#42334A",
    alarm="#F0917F",
    hatch="#6F787E",
    hues=(
        ("#5FA3AA", "#2A7F87", "#20383B"),
        ("#C39A50", "#946A0E", "#3A3120"),
        ("#C98175", "#A34F40", "#3D2925"),
        ("#8095B8", "#526B96", "#272F3D"),
        ("#92AC6B", "#5C7A33", "#2C3522"),
        ("#AA88B0", "#765889", "#352C3A"),
        ("#9D9586", "#6E6555", "#34312B"),
    ),
)
