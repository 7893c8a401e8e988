"""Builds the site from the guide, the recipes and the reference: `site.py [FOLDER]`.  A broken link is a mistake."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from brass_pebble import __version__
from brass_pebble.guide import pages, recipes

ROOT = Path(__file__).parent.parent
REFERENCE = {
    "gestures": "Gestures", "layers": "Layers and clashes", "macro-language": "The macro language",
    "desk-files": "Desk files", "moving": "Pads, knobs, sticks and the network",
    "meeting-devices": "Meeting devices", "labels": "Labels", "usage": "Usage",
    "giving-on": "Giving a desk on", "command-line": "The command line", "protocol": "The socket’s protocol",
    "reliability": "When something goes wrong", "security": "What is trusted", "architecture": "Architecture",
    "performance": "What was measured",
}
# Links into the source lead nowhere on the site: their words stay.
_OUTSIDE = re.compile(r"\[([^\]]+)\]\((?:\.\./)+[^)]*\)")
CONFIG = """site_name: Brass Pebble {version}
docs_dir: {source}
site_dir: {target}
use_directory_urls: false
strict: true
theme:
  name: mkdocs
  hljs_languages: [toml]
  highlightjs: false
plugins: [search]
validation:
  links: {{not_found: warn, anchors: warn, unrecognized_links: warn, absolute_links: warn}}
markdown_extensions: [tables, fenced_code, {{toc: {{permalink: false}}}}]
nav:
{nav}
"""


def write(source: Path) -> str:
    """Write all pages into a folder; returns their order, for the menu."""
    (source / "recipes").mkdir(parents=True)
    home = ["# Brass Pebble", "", "Spare keyboards, pedals, pads and controllers as command surfaces for timed "
            "keystroke macros.", "", "![The desk](screenshots/desk.png)", "", "## Learn", ""]
    nav = ["  - index.md", "  - Learn:"]
    for page in pages():
        (source / f"{page.id}.md").write_text(page.text, encoding="utf-8")
        home.append(f"- [{page.title}]({page.id}.md)")
        nav.append(f"      - {page.id}.md")
    home += ["", "## Recipes", ""]
    nav.append("  - Recipes:")
    for recipe in recipes():
        (source / "recipes" / f"{recipe.id}.md").write_text(recipe.page(), encoding="utf-8")
        home.append(f"- [{recipe.title}](recipes/{recipe.id}.md)")
        nav.append(f"      - recipes/{recipe.id}.md")
    home += ["", "## Reference", ""]
    nav.append("  - Reference:")
    for name, title in REFERENCE.items():
        text = (ROOT / "docs" / f"{name}.md").read_text(encoding="utf-8")
        (source / f"{name}.md").write_text(_OUTSIDE.sub(r"\1", text), encoding="utf-8")
        home.append(f"- [{title}]({name}.md)")
        nav.append(f"      - {name}.md")
    (source / "index.md").write_text("\n".join(home) + "\n", encoding="utf-8")
    for folder in ("screenshots", "samples"):
        shutil.copytree(ROOT / "docs" / folder, source / folder)
    for file in [*ROOT.glob("docs/*.svg"), *ROOT.glob("docs/*.json")]:
        shutil.copyfile(file, source / file.name)
    return "\n".join(nav)


def main() -> int:
    """Build it; a broken link, or a page that is left out, ends with a mistake."""
    target = Path(sys.argv[1] if len(sys.argv) > 1 else ROOT / "build" / "site").resolve()
    with tempfile.TemporaryDirectory() as folder:
        nav = write(Path(folder) / "pages")
        config = Path(folder) / "mkdocs.yml"
        config.write_text(CONFIG.format(version=__version__, source=Path(folder) / "pages", target=target, nav=nav),
                          encoding="utf-8")
        return subprocess.run([sys.executable, "-m", "mkdocs", "build", "--quiet", "--strict", "-f", str(config)],
                              check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
