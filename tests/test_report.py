"""The report: one page that needs nothing else, in a real browser; and a comment for a merge request."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Browser, Page, sync_playwright

from agile_lattice.cli.main import main
from test_demo import printed
from test_real import needs
from where import DEMO, ROOT

INTENT, CHANGED = str(DEMO / "saltmarsh.yaml"), str(DEMO / "a-year-later")
SIZES = {"desk": (1280, 800), "phone": (390, 844)}
BROWSER = shutil.which("chromium") or "chromium"


def test_a_report_is_one_page_that_needs_nothing_else(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    intent = tmp_path / "intent.yaml"
    intent.write_text(Path(INTENT).read_text().replace("Ticket hall}", "Ticket <script>alert(1)</script> hall}"))
    pages = [tmp_path / "one.html", tmp_path / "two.html"]
    for page in pages:
        printed(capsys, 1, "report", str(intent), str(page), CHANGED)
    text = pages[0].read_text()
    assert text == pages[1].read_text(), "the same network gives the same page"
    assert "<script>alert" not in text and "Ticket &lt;script&gt;alert(1)&lt;/script&gt; hall" in text
    assert not re.search(r"""\b(src|href)=["'](?!#)|@import|url\((?!#)""", text.replace("xlink:href", "href")), (
        "no other file"
    )
    colours = re.findall(r"(?:fill|stroke): ([^;\"]+)", text)
    assert len(colours) > 100 and all(re.fullmatch(r"#[0-9a-f]{6}|none", each) for each in colours), "as it was drawn"
    ids = re.findall(r'\bid="([^"]+)"', text)
    assert len(ids) == len(set(ids))
    assert set(re.findall(r'<a href="#([^"]+)"', text)) <= set(ids)
    for subject in ("translation publish-gate-reader", "route 192.0.2.0/24", "198.51.100.3 tcp/4434, in sea0"):
        assert subject in text
    assert text.count("changes traffic</td>") == 7
    tags = re.findall(r"<(/?)(table|tr|td|th|details|section|main|div|ul|li|pre|svg|g)\b[^>]*?(/?)>", text)
    depth = sum((not closing and not alone) - bool(closing) for closing, _, alone in tags)
    assert depth == 0, "what is opened is closed"
    printed(capsys, 0, "report", INTENT, str(pages[0]))
    assert "Differences" not in pages[0].read_text() and "No findings." in pages[0].read_text()
    assert main(["report", INTENT, str(tmp_path / "report.pdf")]) == 2


def test_many_devices_have_an_index_and_a_page_each(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    said = json.loads(printed(capsys, 1, "diff", INTENT, CHANGED, "--format", "json"))
    out = printed(capsys, 1, "report", INTENT, str(tmp_path / "fleet"), CHANGED)
    index = tmp_path / "fleet" / "index.html"
    assert out.strip() == str(index)
    links = set(re.findall(r'<a href="([^#"]+)"', index.read_text()))
    assert links == {f"devices/{each['device']}.html" for each in said}
    for each in said:
        page = (index.parent / "devices" / f"{each['device']}.html").read_text()
        assert f"<h1>{each['device']}</h1>" in page and '<a href="../index.html">' in page
        ids = set(re.findall(r'\bid="([^"]+)"', page))
        assert set(re.findall(r'<a href="#([^"]+)"', page)) <= ids, "what is spoken of is on the page"
        subjects = {one["subject"] for one in each["differences"]}
        assert all(subject in page and subject in index.read_text() for subject in subjects)
        others = {one["subject"] for other in said for one in other["differences"] if other is not each} - subjects
        assert others and not any(subject in page.partition('id="packets"')[0] for subject in others)
    # A device that cannot be compared does not stop the others.
    torn = tmp_path / "torn"
    shutil.copytree(CHANGED, torn)
    (torn / "quay-edge" / "ruleset.nft").write_text("table ip lattice {\n")
    printed(capsys, 2, "report", INTENT, str(tmp_path / "fleet"), str(torn))
    assert "1</b>device that could not be compared" in index.read_text()
    assert "is never closed" in index.read_text() and "route 192.0.2.0/24" in index.read_text()
    assert "could not be compared" in (index.parent / "devices" / "quay-edge.html").read_text()
    assert main(["report", INTENT, str(tmp_path / "change"), "@HEAD"]) == 2


def test_of_a_long_file_only_what_is_spoken_of_is_on_a_page(tmp_path: Path) -> None:
    text = Path(INTENT).read_text()
    (tmp_path / "long.yaml").write_text(text + "# tide\n" * 3000)
    assert main(["report", str(tmp_path / "long.yaml"), str(tmp_path / "fleet")]) == 0
    page = (tmp_path / "fleet" / "devices" / "quay-edge.html").read_text()
    assert "- {to: 10.41.0.0/16, via: 10.40.20.2}" in page and "# tide" not in page and ">...</span>" in page


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as play:
        started = play.chromium.launch(executable_path=BROWSER, args=["--no-sandbox", "--disable-gpu"])
        yield started
        started.close()


@pytest.fixture(scope="module")
def written(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The pages that are looked at: a small network and how its devices differ, and a larger one."""
    folder = tmp_path_factory.mktemp("pages")
    main(["report", INTENT, str(folder / "demo.html"), CHANGED])
    main(["report", str(ROOT / "examples" / "coast"), str(folder / "coast.html")])
    main(["report", INTENT, str(folder / "many"), CHANGED])
    return {
        "demo": folder / "demo.html", "coast": folder / "coast.html", "index": folder / "many" / "index.html",
        "device": folder / "many" / "devices" / "quay-edge.html",
    }  # fmt: skip


def opened(browser: Browser, path: Path, size: str, **more: Any) -> tuple[Page, list[str]]:
    """Open a page; what goes wrong in it, and whatever it asks the network for, comes into the list."""
    width, height = SIZES[size]
    page = browser.new_page(viewport={"width": width, "height": height}, **more)
    wrong: list[str] = []
    page.on("console", lambda said: wrong.append(said.text))
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.on("request", lambda asked: wrong.append(asked.url) if not asked.url.startswith("file:") else None)
    page.goto(path.as_uri())
    return page, wrong


@needs("chromium")
@pytest.mark.parametrize(
    ("name", "scheme", "size"),
    [("demo", "light", "desk"), ("demo", "dark", "phone"), ("coast", "dark", "phone"), ("index", "light", "desk"),
     ("index", "dark", "phone"), ("device", "dark", "phone")],
)  # fmt: skip
def test_a_page_can_be_used_by_everybody(
    browser: Browser, written: dict[str, Path], name: str, scheme: str, size: str
) -> None:
    page, wrong = opened(browser, written[name], size, color_scheme=scheme)
    page.evaluate("document.querySelectorAll('details').forEach(each => { each.open = true; })")
    # The axe rules say what of a page a screen reader, a keyboard, or weak eyes cannot use.
    # Drawings are images with words of their own; their paths are many, and say nothing.
    found = Axe().run(page, context={"exclude": [["svg"]]}).response["violations"]
    assert [(each["id"], each["nodes"][0]["html"][:120]) for each in found] == []
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"), "nothing sticks out sideways"
    assert wrong == []
    page.close()


@needs("chromium")
def test_what_is_filtered_and_followed_on_a_page(browser: Browser, written: dict[str, Path]) -> None:
    page, wrong = opened(browser, written["demo"], "desk")
    rows = page.locator("#differences-table tbody tr")
    assert rows.count() == 10
    page.fill("#differences-filter", "GATE route")
    visible = [each.inner_text() for each in rows.all() if each.is_visible()]
    assert len(visible) == 2 and all("pier-gate" in each and "route" in each for each in visible)
    assert page.inner_text("#differences-told") == "2 of 10"
    page.fill("#differences-filter", "")
    assert page.inner_text("#differences-told") == "10 of 10"
    # From a line of configuration to the line of the intent that it comes from, with the keyboard.
    line = page.locator("pre .line", has_text="route replace 10.41.0.0/16")
    assert "{to: 10.41.0.0/16, via: 10.40.20.2}" in (line.get_attribute("title") or "")
    line.locator("a").focus()
    page.keyboard.press("Enter")
    target = page.locator(":target")
    assert "- {to: 10.41.0.0/16, via: 10.40.20.2}" in target.inner_text() and target.is_visible()
    # From a difference to what becomes of a packet of it on both sides.
    page.locator("details", has_text="to 10.41.0.0/16").locator("summary").click()
    sides = page.locator("details[open] .side", has_text="10.40.20.2")
    assert "to next hop 10.40.20.2 via pier0" in sides.first.inner_text()
    assert wrong == []
    page.close()


def test_a_merge_request_gets_a_comment(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    intent = Path("saltmarsh.yaml")
    text = Path(INTENT).read_text()
    intent.write_text(text)
    for words in ("init -q", "add .", "-c user.name=a -c user.email=a@example.org commit -qm one"):
        subprocess.run(["git", *words.split()], check=True)
    printed(capsys, 0, "report", "saltmarsh.yaml", "comment.md", "@")
    assert "every packet is treated as before" in Path("comment.md").read_text()
    changed = text.replace("via: 10.40.20.2}", "via: 10.40.20.9}").replace(
        "description: Radio link", "description: a <i> b"
    )
    intent.write_text(changed + "  # later\n")
    printed(capsys, 1, "report", "saltmarsh.yaml", "comment.md", "@HEAD")
    comment = Path("comment.md").read_text()
    assert "packets are treated differently on quay-edge." in comment
    assert "- **pier-gate**: the same for every packet" in comment
    assert "before forwarded to next hop 10.40.20.2 via pier0; now forwarded to next hop 10.40.20.9" in comment
    assert "-route replace 10.41.0.0/16 via 10.40.20.2\n+route replace 10.41.0.0/16 via 10.40.20.9\n" in comment
    printed(capsys, 1, "report", "saltmarsh.yaml", "change.html", "@HEAD")
    assert ">+route replace 10.41.0.0/16 via 10.40.20.9</span>" in Path("change.html").read_text()
    # What cannot be rendered is said, and all the rest is told; a device that goes is felt.
    intent.write_text(text.replace("speaks: [frr, nftables]", "speaks: [bird]"))
    printed(capsys, 0, "report", "saltmarsh.yaml", "refused.md", "@HEAD")
    assert "Cannot be rendered, before or now: pier-gate." in Path("refused.md").read_text()
    intent.write_text(text.replace("pier-gate", "pier-door"))
    printed(capsys, 1, "report", "saltmarsh.yaml", "gone.md", "@HEAD")
    assert "- **pier-gate** is gone" in Path("gone.md").read_text()
    assert "- **pier-door** is new" in Path("gone.md").read_text()
    printed(capsys, 1, "report", INTENT, "differences.md", CHANGED)
    rows = [line for line in Path("differences.md").read_text().splitlines() if line.startswith("| ")]
    assert len(rows) == 11 and all(row.count(" | ") == 4 for row in rows)


@pytest.mark.parametrize("suffix", ["html", "md"])
def test_what_was_not_compared_or_understood_is_in_a_report_too(
    suffix: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    shutil.copytree(DEMO / "by-hand/island-gate", tmp_path / "captures/island-gate")
    report = tmp_path / f"report.{suffix}"
    printed(capsys, 1, "report", str(DEMO / "by-hand/island.yaml"), str(report), str(tmp_path / "captures"))
    text = report.read_text()
    assert "as the intent says" not in text.split("Findings")[0]
    for words in ("depending on", "10/second", "routes: no input covers this section",
                  "same effect for some packets", "only on the device", "permit outward"):  # fmt: skip
        assert words in text, words
    # All that was captured is understood, and all the same but for what was not captured: that is not "the same".
    for each in (tmp_path / "captures/island-gate").iterdir():
        each.unlink()
    (tmp_path / "captures/island-gate/routes.json").write_text(
        '[{"dst":"default","gateway":"198.51.100.17","dev":"main0"}]'
    )
    printed(capsys, 1, "report", str(DEMO / "by-hand/island.yaml"), str(report), str(tmp_path / "captures"))
    assert "The devices are as the intent says" not in report.read_text()
