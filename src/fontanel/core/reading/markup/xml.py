"""XML that strangers wrote: parsed without entities, network or unbounded trees."""

from __future__ import annotations

from lxml import etree

from fontanel.core.reading.model import ReadingFailed


def parse_xml(data: bytes) -> etree._Element:
    """The root element. Raises ReadingFailed(damaged)."""
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=True,
    )
    try:
        return etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise ReadingFailed(
            "damaged", "The file is damaged inside. Save it again, and add the new file."
        ) from error


def local_name(element: etree._Element) -> str:
    """Return the tag without its namespace; empty for anything but an element."""
    return etree.QName(element).localname if isinstance(element.tag, str) else ""


def attribute(element: etree._Element, name: str) -> str | None:
    """Return an attribute's value in any namespace."""
    for key, value in element.attrib.items():
        if etree.QName(key).localname == name:
            return str(value)
    return None
