"""Lists the crates of a release with their licences, then each text that they bring along with the crates that it is of:
reads the output of `cargo metadata` on standard input."""

import json
import pathlib
import sys

metadata = json.load(sys.stdin)
own = set(metadata["workspace_members"])
used = {node["id"] for node in metadata["resolve"]["nodes"]} - own
texts = {}
for package in sorted(metadata["packages"], key=lambda package: (package["name"], package["version"])):
    if package["id"] not in used:
        continue
    name = f"{package['name']} {package['version']}"
    print(f"{name}: {package['license'] or 'see its text'}")
    for text in sorted(pathlib.Path(package["manifest_path"]).parent.iterdir()):
        if text.is_file() and text.name.upper().startswith(("LICENSE", "LICENCE", "COPYING", "NOTICE")):
            words = text.read_text(encoding="utf-8", errors="replace").strip()
            # The same text, whatever its line breaks.
            texts.setdefault(" ".join(words.split()), (words, []))[1].append(name)
for words, names in texts.values():
    print(f"\n{'=' * 80}\n{', '.join(dict.fromkeys(names))}\n\n{words}")
