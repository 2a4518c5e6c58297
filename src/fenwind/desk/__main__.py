"""python -m fenwind.desk [JOB | --empty]: open the window, then the job."""

from __future__ import annotations

import sys

from PySide6.QtWidgets import QApplication

from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.theme import apply_theme


def main() -> int:
    """Show the shell first; what is slow to load comes after its first painting."""
    options = parse_arguments(sys.argv[1:])
    app = QApplication(sys.argv[:1])
    app.setApplicationName("fenwind")
    app.setOrganizationName("fenwind")
    apply_theme(app)
    launch = Launch(options)
    launch.shell.show()
    return app.exec()


if __name__ == "__main__":
    sys.exit(main())
