// The control that fits a setting.

import { ChoiceControl, NumberControl } from "./control.js";
import { RecordingControl, SourceControl, SourcesControl } from "./sourcecontrols.js";

const KINDS = { choice: ChoiceControl, source: SourceControl, sources: SourcesControl, recording: RecordingControl };

/** The control that fits a setting. */
export const makeControl = (setting, to) => new (KINDS[setting.kind] ?? NumberControl)(setting, to);
