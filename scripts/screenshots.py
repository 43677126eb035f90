"""Take the pictures of docs/screenshots: each command on the demo data, in a real terminal window.

    make screenshots

Needs Xvfb, xterm, ImageMagick and Chromium. A picture is 1280x800; longer output shows its end, as a terminal does.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path

ROOT = Path(__file__).parent.parent
DEMO = ROOT / "src" / "agile_lattice" / "demo"
TARGET = ROOT / "docs" / "screenshots"
DISPLAY = ":97"
SIZE = "1280x800"
TERMINAL = shlex.split(
    f"xterm -display {DISPLAY} -geometry 158x47+0+0 -bw 8 -tn xterm-256color"
    " -fa 'DejaVu Sans Mono' -fs 10 -bg '#10161d' -fg '#dfe6ec'"
)

# The name of the picture, and what is typed.
PICTURES = {
    "check": "lattice check draft.yaml",
    "addresses": "lattice addresses saltmarsh.yaml --run 2 --only harbour-isp;"
    " lattice addresses saltmarsh.yaml --run 2 --only pier",
    "render": "lattice render saltmarsh.yaml --device quay-edge",
    "fleet": "cd $(mktemp -d); lattice demo --landings 300 --into ferries;"
    " lattice diff ferries/intent ferries/captures --by-difference; lattice check ferries/intent; rm -r ferries",
    "diff": "lattice diff saltmarsh.yaml a-year-later/quay-edge --device quay-edge",
    "by-hand": "lattice diff by-hand/island.yaml by-hand/island-gate --device island-gate",
    "mend": "lattice mend saltmarsh.yaml a-year-later;"
    " lattice mend saltmarsh.yaml a-year-later/pier-gate --device pier-gate --undo",
    "walk": "lattice walk saltmarsh.yaml 192.0.2.77 203.0.113.5 tcp/8080 --at quay-edge:wan0;"
    " lattice walk saltmarsh.yaml 10.40.10.7 10.41.20.9 icmp",
    "observe": "sh ../../../scripts/practise.sh in-use",
    "practice": "sh ../../../scripts/practise.sh",
    "prove": "lattice prove saltmarsh.yaml applied; lattice prove saltmarsh.yaml a-year-later",
    "matrix": "lattice dialects matrix | head -46",
    "demo": "lattice demo | head -42",
}
# Pictures that a command draws itself.
FIGURES = {
    "strip": "addresses saltmarsh.yaml --only pier",
    "walk-picture": "walk saltmarsh.yaml 10.41.20.9 203.0.113.77 tcp/443",
    "network": "draw ../../../examples/coast",
    "rules": "draw draft.yaml --rules bay-edge",
    "sections": "diff saltmarsh.yaml a-year-later",
}
PAGES = {"report": "report saltmarsh.yaml a-year-later"}


def picture(name: str, command: str) -> None:
    """Type a command into a terminal, wait until it has ended, and take the picture."""
    done = Path(f"/tmp/lattice-picture-{os.getpid()}")
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    typed = f"cd {shlex.quote(str(DEMO))}; echo '$ {command}'; {command}; touch {done}; sleep 60"
    terminal = subprocess.Popen(
        [*TERMINAL, "-e", "sh", "-c", typed],
        env={**os.environ, "PATH": path, "TERM": "xterm-256color", "COLORTERM": "truecolor", "LC_ALL": "C.UTF-8"},
    )
    try:
        for _ in range(200):
            if done.exists():
                break
            time.sleep(0.1)
        time.sleep(0.7)  # for the terminal to draw what it was sent
        subprocess.run(["import", "-display", DISPLAY, "-window", "root", str(TARGET / f"{name}.png")], check=True)
    finally:
        terminal.terminate()
        terminal.wait()
        done.unlink(missing_ok=True)


def page(name: str, words: str) -> None:
    """Write a page with a command, and take the picture of it in a browser without a window."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "page.html")
        command, intent, *captures = words.split()
        lattice = Path(sys.executable).with_name("lattice")
        subprocess.run([lattice, command, intent, path, *captures], cwd=DEMO, check=False)  # 1 if something differs
        size, target = SIZE.replace("x", ","), TARGET / f"{name}.png"
        options = ["--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", f"--window-size={size}"]
        subprocess.run(["chromium", *options, f"--screenshot={target}", path.as_uri()], check=True, capture_output=True)


def main() -> None:
    """Take all pictures, or those named."""
    TARGET.mkdir(parents=True, exist_ok=True)
    with ExitStack() as stack:
        screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", f"{SIZE}x24", "-nolisten", "tcp"])
        stack.callback(screen.terminate)
        time.sleep(1)
        for name in sys.argv[1:] or [*PICTURES, *FIGURES, *PAGES]:
            if name in PICTURES:
                picture(name, PICTURES[name])
            elif name in PAGES:
                page(name, PAGES[name])
            else:
                lattice = Path(sys.executable).with_name("lattice")
                command, intent, *more = FIGURES[name].split()
                named = [] if command == "draw" else ["--picture"]
                picture_file = str(TARGET / f"{name}.png")
                words = (
                    [command, intent, *more, *named, picture_file] if named else [command, intent, picture_file, *more]
                )
                subprocess.run([lattice, *words], cwd=DEMO, check=False, capture_output=True)  # 1 if something differs


if __name__ == "__main__":
    main()
