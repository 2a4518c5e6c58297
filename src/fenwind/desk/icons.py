"""Own line icons, one weight, drawn on a 24 by 24 field."""

from __future__ import annotations

from PySide6.QtCore import QByteArray, QRectF
from PySide6.QtGui import QPainter
from PySide6.QtSvg import QSvgRenderer

_PATHS = {
    "Frame": '<circle cx="12" cy="12" r="8.5"/><path d="M3.5 12h17M12 3.5c3 2.4 4.2 5.2 4.2 8.5S15 18.100 '
    '12 20.500C9 18.100 7.800 15.300 7.800 12S9 5.900 12 3.500z"/>',
    "Marks": '<path d="M12 4.500l8 14.500h-16z"/><circle cx="12" cy="14" r="1.300"/>',
    "Sessions": '<path d="M12 11v9.500M8.500 20.500h7"/><circle cx="12" cy="9" r="1.800"/><path d="M7.500 '
    "12.500a5.700 5.700 0 0 1 0-7M16.500 12.500a5.700 5.700 0 0 0 0-7M4.800 14.500a9.200 9.200 0 0 1 "
    '0-11M19.200 14.500a9.200 9.200 0 0 0 0-11"/>',
    "Setups": '<rect x="8.500" y="3.500" width="7" height="7.500" rx="1.500"/><circle cx="12" cy="7.200" '
    'r="1.500"/><path d="M9 11v2h6v-2M10.500 13l-4.500 7.500M13.500 13l4.500 7.500M12 13v7.500"/>',
    "Fits": '<path d="M4 18l5-10l10 2.5z"/><path d="M6 20.500l4.500-9.500l9.500 2" stroke-dasharray="2 2"/>',
    "Network": '<path d="M4.500 17l5-11l10 3l-4 11zM4.500 17l15-8M9.500 6l6 14"/>',
    "Ground": '<path d="M3.500 8.500h17M3.500 18c3.500-3.500 6 0 8.500-1.500s5-3 8.500-1M7 8.500v6.500M12 '
    '8.500v7M17 8.500v5.500"/>',
    "Handover": '<path d="M6.500 3.500h7.500l4 4v13h-11.500zM14 3.500v4h4M12 10.500v6.500M9.500 '
    '14.500l2.500 2.500l2.500-2.500"/>',
}


#: For a stage that has no drawing of its own yet.
_PLAIN = '<circle cx="12" cy="12" r="7.500"/>'


def paint_icon(painter: QPainter, name: str, rect: QRectF, colour: str) -> None:
    """Draw an icon into a rectangle in one colour."""
    svg = (
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24" fill="none" '
        f'stroke="{colour}" stroke-width="1.5" stroke-linecap="round" '
        f'stroke-linejoin="round">{_PATHS.get(name, _PLAIN)}</svg>'
    )
    QSvgRenderer(QByteArray(svg.encode())).render(painter, rect)
