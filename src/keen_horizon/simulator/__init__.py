"""The made-up harbour town of Port Merrow and a camera that knows exactly how it moved.

`town` builds the world from patches, `panorama` paints it as seen from one point, `layers` holds nearer
things that shift against it, `camera` is the path and the lens, `film` takes the pictures and writes
the file with its truth beside it, `demo` lists the clips of the demo project. `plane` shakes a flat
picture, for tests whose truth is a similarity.
"""
