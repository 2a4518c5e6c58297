"""python -m fenwind.desk [JOB | --empty]: open the window, then the job."""

from __future__ import annotations

import os
import sys

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.theme import apply_theme, set_text_scale


def main() -> int:
    """Show the shell first; what is slow to load comes after its first painting."""
    options = parse_arguments(sys.argv[1:])
    app = QApplication(sys.argv[:1])
    app.setApplicationName("fenwind")
    app.setOrganizationName("fenwind")
    settings = QSettings()
    set_text_scale(float(os.environ.get("FENWIND_TEXT_SCALE") or str(settings.value("window/text", 1.0))))
    apply_theme(app, night=settings.value("window/night", False, bool) is True)
    launch = Launch(options, settings)
    launch.shell.show()
    return app.exec()


if __name__ == "__main__":
    sys.exit(main())
