"""The desk: window, stages, plan, widgets and theme. The only package that imports Qt.

The shell is painted before the numeric libraries load, so modules that the shell imports must not import
them.
"""
