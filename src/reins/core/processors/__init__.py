"""The processors, by the name a chain file gives them."""

from reins.core.processors.base import Key, Processor, ProcessorSettings
from reins.core.processors.compressor import Compressor, CompressorSettings
from reins.core.processors.limiter import Limiter, LimiterSettings

PROCESSORS: dict[str, type[Processor]] = {kind.type_name: kind for kind in (Compressor, Limiter)}

__all__ = [
    "PROCESSORS", "Compressor", "CompressorSettings", "Key", "Limiter", "LimiterSettings", "Processor",
    "ProcessorSettings",
]  # fmt: skip
