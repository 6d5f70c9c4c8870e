from windows import empty, qapp, window

__all__ = ["empty", "qapp", "window"]
