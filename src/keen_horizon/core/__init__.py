"""The rules and the computation, free of web, database and queue.

    file --media--> frames --motion--> Measurement --path--> CameraPath --+--mapping--> FrameMap
                       |                                                  |                  |
                       |                 |      straightedges --lens--> Lens                 |
                       |                 +--finding--> Readout, RowMotion, Falloff, OwnLens  |
                       |                                                                     |
                       +------------------------- render <-----------------------------------+
                                                     |
                                                     +--media--> file

Every arrow is a function from one frozen dataclass to the next; the folder that holds it
has the arrow's name; `cameras`, `glass` and `geometry` hold what these are made of. Only `media` touches files.
"""
