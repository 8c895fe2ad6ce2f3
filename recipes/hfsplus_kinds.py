"""HFS+ volumes that lost files of many kinds, of some of which only the names are left: lives of lives.py.

Without arguments rebuilds every sample here. Kinds of which one name and one content are left become one file
again; on the second volume the order of places speaks against one of them.
"""
import pathlib
import tempfile

from card import SAMPLES
from lives import Life

LIVES = {"hfsplus-kinds": 510, "hfsplus-kinds-against-order": 512}  # seeds


def main():
    for name, seed in LIVES.items():
        with tempfile.TemporaryDirectory() as work:
            life = Life(seed, ["hfsplus"], pathlib.Path(work))
            life.play()
            life.finish()
            life.card.name, life.card.kept_in = name, SAMPLES
            life.card.finish()


if __name__ == "__main__":
    main()
