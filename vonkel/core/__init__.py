"""The rules of the job and its computation.  Imports no web, no store and no database.

Folders, each knowing only those before it:
character, geometry, joints, rig, skin, shapes, face, trials, formats.
"""
