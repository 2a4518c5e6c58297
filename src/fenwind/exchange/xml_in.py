"""XML from strangers: parsed without entities, external references or document types, so that no file can
reach out or blow up."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fenwind.errors import FormatError
from fenwind.exchange.files import read_bytes

#: Levels that a document of points never needs.
DEEPEST = 200
_HINT = "Have it exported again, or open it in a text editor at that place"


def parse_xml(path: str, what: str) -> Any:
    """Root element (xml.etree) of an XML file. Raises FormatError with line and column where it is not well
    formed, and for documents that declare entities or a document type."""
    from xml.etree.ElementTree import ParseError

    from defusedxml import DefusedXmlException
    from defusedxml.ElementTree import fromstring

    data = read_bytes(path)
    try:
        root = fromstring(data, forbid_dtd=True, forbid_entities=True, forbid_external=True)
    except ParseError as error:
        line, column = error.position
        reason = str(error).split(":")[0]
        raise FormatError(
            f"{what} is not well formed: {reason}",
            where=f"{path}, line {line}, column {column + 1}",
            hint=_HINT,
        ) from error
    except DefusedXmlException as error:
        raise FormatError(
            f"{what} declares a document type or entities, which are never read",
            where=path,
            hint="Have it exported without them",
        ) from error
    except (ValueError, LookupError, RecursionError) as error:
        raise FormatError(f"{what} cannot be read: {str(error)[:120]}", where=path, hint=_HINT) from error
    if _deeper(root, DEEPEST):
        raise FormatError(f"{what} has elements nested over {DEEPEST} deep", where=path, hint=_HINT)
    return root


def _deeper(root: Any, levels: int) -> bool:
    """Whether there are elements below so many levels; looking for names in each of them would take for
    ever."""
    row = [root]
    for _ in range(levels):
        row = [child for element in row for child in element]
        if not row:
            return False
    return True


def local(tag: object) -> str:
    """Name of an element without its namespace; empty for comments."""
    return tag.rsplit("}", 1)[-1] if isinstance(tag, str) else ""


def elements(root: Any, name: str) -> Iterator[Any]:
    """All elements below `root` of a name, in any namespace, in document order."""
    return (element for element in root.iter() if local(element.tag) == name)


def child_text(element: Any, name: str) -> str:
    """Text of the first child of a name, empty where there is none."""
    return next(((child.text or "").strip() for child in element if local(child.tag) == name), "")
