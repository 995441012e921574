#!/usr/bin/env python3
"""sbom.py PROGRAM: what the program is made of, as SPDX 2.3 in JSON, on stdout.

From cargo's own resolution for this target: the crates that are linked in or run while it is built, each with its version, licence,
source and checksum, and the program with its SHA-256. The same program gives the same document.
"""
import hashlib
import json
import subprocess
import sys
import tomllib
from datetime import datetime, timezone
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BINARY = "schwelle"


def cargo(*arguments):
    done = subprocess.run(["cargo", *arguments], cwd=ROOT, check=True, capture_output=True, text=True)
    return done.stdout


def main(program):
    target = next(line.split()[1] for line in subprocess.run(["rustc", "-vV"], check=True, capture_output=True,
                                                              text=True).stdout.splitlines() if line.startswith("host:"))
    known = json.loads(cargo("metadata", "--format-version", "1", "--locked", "--filter-platform", target))
    packages = {package["id"]: package for package in known["packages"]}
    nodes = {node["id"]: node for node in known["resolve"]["nodes"]}
    root = next(id for id, package in packages.items() if package["name"] == BINARY)
    used, links, left = set(), [], [root]
    while left:
        at = left.pop()
        if at in used:
            continue
        used.add(at)
        for dependency in nodes[at]["deps"]:
            kinds = {kind["kind"] for kind in dependency["dep_kinds"]}
            # What only tests need is not in it.
            if kinds - {"dev"}:
                links.append((at, dependency["pkg"]))
                left.append(dependency["pkg"])
    locked = tomllib.loads((ROOT / "Cargo.lock").read_text())["package"]
    checksums = {(package["name"], package["version"]): package.get("checksum") for package in locked}

    def reference(id):
        package = packages[id]
        return f"SPDXRef-{package['name']}-{package['version']}".replace("_", "-").replace("+", "-")

    content = Path(program).read_bytes()
    digest = hashlib.sha256(content).hexdigest()
    listed = []
    for id in sorted(used, key=reference):
        package = packages[id]
        checksum = checksums.get((package["name"], package["version"]))
        entry = {
            "SPDXID": reference(id),
            "name": package["name"],
            "versionInfo": package["version"],
            "downloadLocation": "NOASSERTION",
            "filesAnalyzed": False,
            "licenseConcluded": "NOASSERTION",
            "licenseDeclared": (package["license"] or "NOASSERTION").replace("/", " OR "),
            "copyrightText": "NOASSERTION",
            "externalRefs": [{"referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl",
                              "referenceLocator": f"pkg:cargo/{package['name']}@{package['version']}"}],
        }
        if checksum:
            entry["checksums"] = [{"algorithm": "SHA256", "checksumValue": checksum}]
        elif id == root:
            entry["checksums"] = [{"algorithm": "SHA256", "checksumValue": digest}]
            entry["primaryPackagePurpose"] = "APPLICATION"
        listed.append(entry)
    relations = [{"spdxElementId": "SPDXRef-DOCUMENT", "relationshipType": "DESCRIBES", "relatedSpdxElement": reference(root)}]
    relations += [{"spdxElementId": reference(one), "relationshipType": "DEPENDS_ON", "relatedSpdxElement": reference(other)}
                  for one, other in sorted(set(links))]
    changed = int(subprocess.run(["git", "log", "-1", "--format=%ct"], cwd=ROOT, check=True, capture_output=True, text=True).stdout)
    document = {
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": f"{BINARY}-{packages[root]['version']}-{target}",
        "documentNamespace": f"urn:schwelle:sbom:{digest}",
        "creationInfo": {"created": datetime.fromtimestamp(changed, timezone.utc).strftime("%Y-%m-%dT%H:%M:%SZ"),
                         "creators": ["Tool: tools/sbom.py"]},
        "packages": listed,
        "relationships": relations,
    }
    json.dump(document, sys.stdout, indent=1)
    print()


if __name__ == "__main__":
    main(sys.argv[1])
