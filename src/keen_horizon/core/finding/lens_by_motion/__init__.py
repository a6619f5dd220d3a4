"""The lens behind which a camera turned, told by the points that a measurement followed.

Measurement --points--> TurnedPoints --search--> Solved --judging--> LensByMotion
                                        |
                 residuals, solving: one state made better, with straight things where there are any
"""
