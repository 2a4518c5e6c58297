"""A report as one self-contained HTML page: no scripts, nothing loaded from elsewhere."""

from __future__ import annotations

import base64

from fenwind.reports.model import Figure, Paragraph, Report, Table

#: How a PNG begins (ISO/IEC 15948, section 5.2).
PNG = b"\x89PNG"

_TEMPLATE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{ report.title }}</title>
<style>
body { font: 14px/1.45 "IBM Plex Sans", "Helvetica Neue", Arial, sans-serif; color: #1F2A30;
  background: #FAF8F3; margin: 0; }
main { max-width: 960px; margin: 0 auto; padding: 36px 28px 60px; background: #FFFFFF; }
h1 { font-size: 22px; margin: 0; } h2 { font-size: 12px; letter-spacing: .06em; text-transform: uppercase;
  color: #6C7378; margin: 30px 0 8px; }
.sub { color: #6C7378; margin: 2px 0 18px; } .statement { font-size: 18px; line-height: 1.5;
  margin: 0 0 8px; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; }
th { font-size: 11.5px; font-weight: 500; color: #6C7378; text-align: right; vertical-align: bottom;
  border-bottom: 1px solid #1F2A30; padding: 3px 8px; }
td { text-align: right; border-bottom: 1px solid #D9D4C7; padding: 3px 8px; white-space: nowrap; }
  .t { text-align: left; }
tr.doubt td { color: #C2410C; font-weight: 600; } tr.settled td { font-weight: 600; }
p.doubt { border-left: 3px solid #C2410C; padding-left: 10px; } p.caution { border-left: 3px solid #B7791F;
  padding-left: 10px; }
p.settled { border-left: 3px solid #4E7A51; padding-left: 10px; }
p.code { font-family: monospace; font-size: 11px; overflow-wrap: anywhere; }
p.faint { color: #6C7378;
  border-left: 3px solid #D9D4C7; padding-left: 10px; }
figure { margin: 14px 0; } figcaption { color: #6C7378; font-size: 12px; } svg { width: 100%; height: auto; }
.head { color: #6C7378; margin: 0 0 14px; } .head img { height: 40px; margin-right: 12px;
  vertical-align: middle; }
table.facts { width: auto; margin: 0 0 16px; } table.facts td { border: none; padding: 1px 14px 1px 0;
  white-space: normal; } table.facts td:first-child { color: #6C7378; }
td.t { white-space: normal; }
.signed { display: flex; gap: 28px; margin: 64px 0 0; break-inside: avoid; } .signed p { flex: 1;
  border-top: 1px solid #1F2A30; color: #6C7378; font-size: 12px; padding-top: 4px; }
h2 { break-after: avoid; }
@media print { body { background: #FFFFFF; } main { max-width: none; padding: 0; }
  tr, figure { break-inside: avoid; } }
</style></head><body><main>
{% if logo or report.letterhead.name %}<p class="head">{% if logo %}<img alt="" src="{{ logo }}">{% endif
  %}{{ report.letterhead.name }}</p>
{% endif %}<h1>{{ report.title }}</h1><p class="sub">{{ report.subtitle }}</p>
{% if report.facts %}<table class="facts"><tbody>{% for label, text in report.facts %}<tr><td class="t">{{
  label }}</td><td class="t">{{ text }}</td></tr>
{% endfor %}</tbody></table>
{% endif %}<p class="statement">{{ report.statement
  }}</p>
{% for section in report.sections %}<section><h2>{{ section.title }}</h2>
{% for block in section.blocks %}{% if kind(block) == "paragraph" %}<p class="{{ block.tone }}">{{
  block.text }}</p>
{% elif kind(block) == "table" %}<table><thead><tr>{% for title, unit in block.headers %}<th{% if
  loop.index0 < block.text_columns %} class="t"{% endif %}>
{{- title }}{% if unit %}<br>{{ unit }}{% endif %}</th>{% endfor %}</tr></thead><tbody>
{% for row in block.rows %}<tr class="{{ block.tones[loop.index0] if block.tones else '' }}">{% for cell in
  row %}
<td{% if loop.index0 < block.text_columns %} class="t"{% endif %}>{{ cell }}</td>{% endfor %}</tr>
{% endfor %}</tbody></table>
{% else %}<figure{% if block.size < 1 %} style="width: {{ 100 * block.size }}%"{% endif %}>{{
  block.svg | safe }}<figcaption>{{
  block.caption }}</figcaption></figure>
{% endif %}{% endfor %}</section>
{% endfor %}{% if report.signed %}<div class="signed">{% for label in report.signed %}<p>{{ label }}</p>{%
  endfor %}</div>
{% endif %}</main></body></html>
"""


def _kind(block: object) -> str:
    return {Paragraph: "paragraph", Table: "table", Figure: "figure"}[type(block)]


def to_html(report: Report) -> str:
    """HTML of a report; every text is escaped, figures are inline SVG."""
    from jinja2 import Environment

    logo = ""
    if report.letterhead.logo:
        data = report.letterhead.logo
        logo = f"data:image/{'png' if data[:4] == PNG else 'jpeg'};base64,{base64.b64encode(data).decode()}"
    return Environment(autoescape=True).from_string(_TEMPLATE).render(report=report, kind=_kind, logo=logo)
