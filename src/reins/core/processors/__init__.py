"""The processors, by the name a chain file gives them."""

from reins.core.processors.base import Key, Processor, ProcessorSettings
from reins.core.processors.compressor import Compressor, CompressorSettings

PROCESSORS: dict[str, type[Processor]] = {Compressor.type_name: Compressor}

__all__ = ["PROCESSORS", "Compressor", "CompressorSettings", "Key", "Processor", "ProcessorSettings"]
