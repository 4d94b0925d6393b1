"""How the pages are built into a site: ``scripts/site``. Read from files, without network, with a search of its own."""

from __future__ import annotations

from importlib.metadata import version as installed

project = "Echo Tally"
author = "The Echo Tally founders"
version = release = installed("echotally")
extensions = ["myst_parser"]
source_suffix = {".md": "markdown"}
root_doc = "index"
exclude_patterns = ["examples/*"]
myst_heading_anchors = 4
html_theme = "alabaster"
html_theme_options = {
    "description": "Plays a month of event-driven functions, and bills it on every hosting plan.",
    "fixed_sidebar": True,
    "page_width": "min(98%, 1500px)",
    "sidebar_width": "215px",
    "font_family": "system-ui, sans-serif",
    "head_font_family": "system-ui, sans-serif",
    "show_powered_by": False,
}
html_sidebars = {"**": ["about.html", "searchfield.html", "navigation.html"]}
html_show_sourcelink = False
html_copy_source = False
html_show_copyright = False
html_static_path = ["site"]
html_css_files = ["site.css"]
templates_path: list[str] = []
# Links that leave docs/ lead to files of the sources, which a site does not have.
suppress_warnings = ["myst.xref_missing"]
nitpicky = False
