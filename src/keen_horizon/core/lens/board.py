"""The board to print, as a page of SVG in millimetres: crisp at any size, and the same on every printer."""

from __future__ import annotations

from keen_horizon.core.lens.calibration import Board

PAGE_MM = (297.0, 210.0)
MARGIN_MM = 12.0
FOOT_MM = 8.0


def board_svg(board: Board) -> str:
    """An A4 page, lying, with the board as large as fits and a line that says what it is."""
    wide, tall = PAGE_MM
    cells = (board.across + 1, board.down + 1)
    side = min((wide - 2 * MARGIN_MM) / cells[0], (tall - 2 * MARGIN_MM - FOOT_MM) / cells[1])
    left, top = (wide - side * cells[0]) / 2, (tall - FOOT_MM - side * cells[1]) / 2
    shapes = _squares(cells, side, left, top) if board.kind == "chessboard" else _dots(board, side, left, top)
    what = "inner corners" if board.kind == "chessboard" else "dots"
    size = f"{board.across} × {board.down} {what}, {side:.1f} mm apart."
    text = f"{size} Keep it flat; film it whole, tilted, all over the picture."
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide}mm" height="{tall}mm" viewBox="0 0 {wide} {tall}">\n'
        f'<rect width="{wide}" height="{tall}" fill="#fff"/>\n{shapes}\n'
        f'<text x="{wide / 2}" y="{tall - MARGIN_MM / 2}" font-family="sans-serif" font-size="4" fill="#000" '
        f'text-anchor="middle">{text}</text>\n</svg>\n'
    )


def _squares(cells: tuple[int, int], side: float, left: float, top: float) -> str:
    dark = ((x, y) for y in range(cells[1]) for x in range(cells[0]) if (x + y) % 2 == 0)
    return "\n".join(
        f'<rect x="{left + x * side:.4f}" y="{top + y * side:.4f}" width="{side:.4f}" height="{side:.4f}"/>'
        for x, y in dark
    )


def _dots(board: Board, side: float, left: float, top: float) -> str:
    return "\n".join(
        f'<circle cx="{left + (x + 1) * side:.4f}" cy="{top + (y + 1) * side:.4f}" r="{side / 4:.4f}"/>'
        for y in range(board.down)
        for x in range(board.across)
    )
