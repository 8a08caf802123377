"""The processors, by the name a chain file gives them."""

from reins.core.processors.base import Processor, ProcessorSettings
from reins.core.processors.colour import Colour, ColourSettings
from reins.core.processors.compressor import Compressor, CompressorSettings
from reins.core.processors.curve import Curve, CurveSettings
from reins.core.processors.deesser import Deesser, DeesserSettings
from reins.core.processors.ducker import Ducker, DuckerSettings
from reins.core.processors.dynamic_eq import DynamicEq
from reins.core.processors.eq_settings import DynamicEqSettings, EqBand
from reins.core.processors.expander import Expander, ExpanderSettings
from reins.core.processors.fet import Fet, FetSettings
from reins.core.processors.filter import Filter, FilterSettings
from reins.core.processors.fine_bands import FineBands, FineBandsSettings
from reins.core.processors.gate import Gate, GateSettings
from reins.core.processors.level import Level, LevelSettings
from reins.core.processors.limiter import Limiter, LimiterSettings
from reins.core.processors.make_room import MakeRoom, MakeRoomSettings
from reins.core.processors.multiband import Multiband
from reins.core.processors.multiband_settings import MultibandBand, MultibandSettings
from reins.core.processors.optical import Optical, OpticalSettings
from reins.core.processors.room import Room, RoomSettings
from reins.core.processors.sidechain import Key
from reins.core.processors.three_speed import ThreeSpeed, ThreeSpeedSettings
from reins.core.processors.variable_mu import VariableMu, VariableMuSettings

PROCESSORS: dict[str, type[Processor]] = {
    kind.type_name: kind
    for kind in (
        Compressor,
        Fet,
        Optical,
        VariableMu,
        ThreeSpeed,
        Curve,
        Gate,
        Expander,
        Ducker,
        Deesser,
        DynamicEq,
        Multiband,
        FineBands,
        MakeRoom,
        Level,
        Filter,
        Colour,
        Room,
        Limiter,
    )
}

__all__ = [
    "PROCESSORS",
    "Colour",
    "ColourSettings",
    "Compressor",
    "CompressorSettings",
    "Curve",
    "CurveSettings",
    "Deesser",
    "DeesserSettings",
    "Ducker",
    "DuckerSettings",
    "DynamicEq",
    "DynamicEqSettings",
    "EqBand",
    "Expander",
    "ExpanderSettings",
    "Fet",
    "FetSettings",
    "Filter",
    "FilterSettings",
    "FineBands",
    "FineBandsSettings",
    "Gate",
    "GateSettings",
    "Key",
    "Level",
    "LevelSettings",
    "Limiter",
    "LimiterSettings",
    "MakeRoom",
    "MakeRoomSettings",
    "Multiband",
    "MultibandBand",
    "MultibandSettings",
    "Optical",
    "OpticalSettings",
    "Processor",
    "ProcessorSettings",
    "Room",
    "RoomSettings",
    "ThreeSpeed",
    "ThreeSpeedSettings",
    "VariableMu",
    "VariableMuSettings",
]  # fmt: skip
