"""Copy the front-end packages that Vonkel ships from node_modules into the package (git-ignored)."""

import shutil
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
OUT = ROOT / "vonkel/web/static/vendor"

FILES = {
    "three/build/three.module.js": "three/three.module.js",
    "three/build/three.core.js": "three/three.core.js",
    "three/examples/jsm/controls/OrbitControls.js": "three/controls/OrbitControls.js",
    "three/examples/jsm/loaders/GLTFLoader.js": "three/loaders/GLTFLoader.js",
    "three/examples/jsm/utils/BufferGeometryUtils.js": "three/utils/BufferGeometryUtils.js",
    "three/examples/jsm/utils/SkeletonUtils.js": "three/utils/SkeletonUtils.js",
    "three/LICENSE": "three/LICENSE",
    "bootstrap/dist/css/bootstrap.min.css": "bootstrap/bootstrap.min.css",
    "bootstrap/dist/js/bootstrap.bundle.min.js": "bootstrap/bootstrap.bundle.min.js",
    "preact/dist/preact.mjs": "preact/preact.js",
    "preact/LICENSE": "preact/LICENSE",
    "bootstrap/LICENSE": "bootstrap/LICENSE",
    "@fontsource/atkinson-hyperlegible/files/atkinson-hyperlegible-latin-400-normal.woff2": "fonts/atkinson-400.woff2",
    "@fontsource/atkinson-hyperlegible/files/atkinson-hyperlegible-latin-700-normal.woff2": "fonts/atkinson-700.woff2",
    "@fontsource/atkinson-hyperlegible/LICENSE": "fonts/atkinson-LICENSE",
    "@fontsource/atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-400-normal.woff2": "fonts/atkinson-mono-400.woff2",
    "@fontsource/atkinson-hyperlegible-mono/LICENSE": "fonts/atkinson-mono-LICENSE",
    "@fontsource-variable/fraunces/files/fraunces-latin-wght-normal.woff2": "fonts/fraunces.woff2",
    "@fontsource-variable/fraunces/files/fraunces-latin-wght-italic.woff2": "fonts/fraunces-italic.woff2",
    "@fontsource-variable/fraunces/LICENSE": "fonts/fraunces-LICENSE",
}


def main() -> None:
    for source, target in FILES.items():
        path = OUT / target
        path.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(ROOT / "node_modules" / source, path)


if __name__ == "__main__":
    main()
