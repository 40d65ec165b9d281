"""A bill of materials of what is delivered, as CycloneDX 1.6 JSON: `./run bom FILE`."""

import sys
from pathlib import Path

from cyclonedx.model import HashAlgorithm, HashType
from cyclonedx.model.bom import Bom
from cyclonedx.model.component import Component, ComponentType
from cyclonedx.model.license import DisjunctiveLicense
from cyclonedx.output.json import JsonV1Dot6
from packageurl import PackageURL

from fairsquare import __version__
from supply.parts import Part, copied, locked


def made() -> str:
    """Return the bill of materials."""
    root = Component(name="fairsquare", version=__version__, type=ComponentType.APPLICATION, bom_ref="fairsquare")
    bom = Bom(components=[_component(one) for one in (*locked(), *copied())])
    bom.metadata.component = root
    bom.register_dependency(root, list(bom.components))
    return str(JsonV1Dot6(bom).output_as_string(indent=1))


def _component(part: Part) -> Component:
    space, _, name = part.name.rpartition("/")
    url = PackageURL(type=part.kind, namespace=space or None, name=name, version=part.version)
    return Component(
        name=part.name,
        version=part.version,
        type=ComponentType.LIBRARY,
        purl=url,
        bom_ref=str(url),
        hashes=[HashType(alg=HashAlgorithm.SHA_256, content=one) for one in part.sha256],
        licenses=[DisjunctiveLicense(name=part.licence)] if part.licence else None,
    )


if __name__ == "__main__":
    if len(sys.argv) != 2:
        sys.exit("usage: ./run bom FILE")
    Path(sys.argv[1]).write_text(made() + "\n", encoding="utf-8")
