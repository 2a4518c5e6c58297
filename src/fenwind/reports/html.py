"""A report as one self-contained HTML page: no scripts, nothing loaded from elsewhere."""

from __future__ import annotations

from fenwind.reports.model import Figure, Paragraph, Report, Table

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
p.settled { border-left: 3px solid #4E7A51; padding-left: 10px; } p.faint { color: #6C7378;
  border-left: 3px solid #D9D4C7; padding-left: 10px; }
figure { margin: 14px 0; } figcaption { color: #6C7378; font-size: 12px; } svg { width: 100%; height: auto; }
@media print { body { background: #FFFFFF; } main { max-width: none; padding: 0; }
  tr, figure { break-inside: avoid; } }
</style></head><body><main>
<h1>{{ report.title }}</h1><p class="sub">{{ report.subtitle }}</p><p class="statement">{{ report.statement
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
{% else %}<figure>{{ block.svg | safe }}<figcaption>{{ block.caption }}</figcaption></figure>
{% endif %}{% endfor %}</section>
{% endfor %}</main></body></html>
"""


def _kind(block: object) -> str:
    return {Paragraph: "paragraph", Table: "table", Figure: "figure"}[type(block)]


def to_html(report: Report) -> str:
    """HTML of a report; every text is escaped, figures are inline SVG."""
    from jinja2 import Environment

    return Environment(autoescape=True).from_string(_TEMPLATE).render(report=report, kind=_kind)
