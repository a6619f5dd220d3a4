"""CameraPath (and, later, lenses) -> SamplingMap, from which the preview and the render both draw."""
