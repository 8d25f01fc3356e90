"""Learned contenders for other runtimes: graphs of standard operators (ONNX), and what stands beside them as JSON."""
