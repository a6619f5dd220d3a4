"""Files to frames with exact times, and back. The only part of the core that does I/O."""
