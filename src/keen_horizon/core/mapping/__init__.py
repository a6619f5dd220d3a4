"""CameraPath -> FrameMap, from which the preview and the render both draw."""
