"""Make the finished member of the demo: Lutra with plan, kits, eyes, skin and her open mouth."""

import tempfile
from pathlib import Path

from vonkel.demo import DATA, READY, add_member
from vonkel.steps import load_recipe
from vonkel.workshop import Workshop


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        shop = Workshop(Path(folder))
        number = add_member(shop, "otter.obj")
        shop.run_recipe(number, load_recipe("biped"))
        if not any(k.kind == "eyes" for k in shop.character(number).kits):
            shop.apply(number, "face.eyes", {})
        shop.apply(number, "model.rename", {"name": "Lutra, ready", "about": "otter, lamplighter; rigged and bound"})
        shop.store.compact(keep=1)
        (DATA / READY).write_bytes(shop.pack(number))
        print(f"{READY}: {(DATA / READY).stat().st_size / 1e6:.2f} MB")


if __name__ == "__main__":
    main()
