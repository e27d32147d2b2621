"""Files and who can shape them: ours, those that people name, and the system's. A path is not a file until that is known.

Standard library only, since nodes have nothing else.
"""
