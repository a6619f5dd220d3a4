"""The lens behind which a camera turned, told by the points that a measurement followed.

Measurement --points--> TurnedPoints --search--> Found --judging--> LensByMotion
                                        |
                 camera: what is looked for; residuals: how far points lie off it; belief: which of them count;
                 normal, solving: one state made better; straight_things: what lines add
"""
