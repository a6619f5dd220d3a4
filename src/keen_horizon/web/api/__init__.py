"""What the pages ask for, a module a noun. Bodies are checked by pydantic; errors come as {"error": text}."""

from keen_horizon.web.api import (
    believing,
    bending,
    carrying,
    clips,
    edits,
    events,
    media,
    optics,
    profiles,
    projects,
    receiving,
    renders,
    solving,
    starting_points,
    stills,
    works,
)

ROOMS = (
    believing, bending, carrying, clips, edits, events, media, optics, profiles, projects, receiving, renders,
    solving, starting_points, stills, works,
)  # fmt: skip
