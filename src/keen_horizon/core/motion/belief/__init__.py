"""What of a measurement is believed: tracks -> windows -> layers of motion -> the background's chain -> a vote a track
-> motions fitted to what the background's tracks say -> a measurement. Nothing is followed again.
"""
