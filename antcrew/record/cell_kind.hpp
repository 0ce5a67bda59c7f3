// What a cell of a study is: the baseline, a variant, or a probe, which on purpose leaves out a part of a variant.
#pragma once

#include "antcrew/record/layer.hpp"

namespace antcrew::record_layer {

enum class CellKind { baseline, variant, probe };

const char* name_of(CellKind kind) noexcept;

}  // namespace antcrew::record_layer
