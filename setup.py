"""What the project's table can't say: a wheel is only built with the front end in it."""

from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py

VENDOR = Path(__file__).parent / "vonkel/web/static/vendor/three/three.module.js"


class WithFrontEnd(build_py):
    def run(self) -> None:
        if not self.editable_mode and not VENDOR.is_file():
            raise SystemExit("vonkel: the front end isn't set up yet: ./run --setup-only copies it into the package.")
        super().run()


setup(cmdclass={"build_py": WithFrontEnd})
