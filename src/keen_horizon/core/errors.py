"""What can go wrong, as a tree. The message of each is written for an editor.

KeenHorizonError
├── MediaError                the clip cannot be used as it is
│   ├── NotVideoError         no container on the list, or no video stream in it
│   ├── UnreadableVideoError  it is a video, but no frame can be decoded
│   └── EncodeError           the output could not be written
├── RangeError                the in/out points do not lie in the clip
├── MeasurementError          too little to measure
├── LensError                too little to tell a lens by
├── ProfileError             not a lens profile, or not for this clip
├── EditError                an edit that cannot be read, or names no files
├── TreatmentError            a treatment document that does not follow the schema
├── SolveError                the limits cannot be met
└── Stopped                   the work was asked to stop; nothing is wrong
"""


class KeenHorizonError(Exception):
    """Something went wrong and the message says what and what to do."""


class MediaError(KeenHorizonError):
    """A media file cannot be read or written."""


class NotVideoError(MediaError):
    """The file is not a video that can be opened safely."""


class UnreadableVideoError(MediaError):
    """The container opened but gave no picture."""


class EncodeError(MediaError):
    """The output file could not be written."""


class RangeError(KeenHorizonError):
    """The range does not lie inside the clip."""


class MeasurementError(KeenHorizonError):
    """The motion could not be measured, or a stored measurement cannot be read."""


class LensError(KeenHorizonError):
    """What was drawn or found does not tell a lens."""


class ProfileError(KeenHorizonError):
    """A lens profile cannot be read, or does not fit the clip."""


class TreatmentError(KeenHorizonError):
    """A treatment document is not valid; the message names the key."""


class EditError(KeenHorizonError):
    """An edit's document cannot be read; the message names the file."""


class SolveError(KeenHorizonError):
    """No camera path meets the limits."""


class Stopped(KeenHorizonError):
    """The work was asked to stop."""
