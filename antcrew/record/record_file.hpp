// Records as files. Written beside the target first and then renamed: a reader sees the old file or the new one, whole.
#pragma once

#include <string>
#include <string_view>

#include "antcrew/record/forward.hpp"
#include "antcrew/record/layer.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::record_layer {

// Throws Error (record.file) when the file cannot be read, is a directory or is empty; otherwise as record_from_json.
Record load_record(const std::string& path);
Record load_record(const std::string& path, json::Value (*parse)(std::string_view text));

// Throws Error (record.write), the old file untouched. Makes the folder of `path` if it is missing.
void save_record(const Record& record, const std::string& path);

// The same for text that is a record already. durable: also wait until the disk has it, against a loss of power;
// without, a killed program loses nothing either.
void save_text(const std::string& text, const std::string& path, bool durable);
// 0, or the error number of what went wrong.
int try_to_save(const std::string& text, const std::string& path, bool durable);
// Throws Error (record.write) for that number.
[[noreturn]] void cannot_write(const std::string& path, int fault);

}  // namespace antcrew::record_layer

namespace antcrew {

using record_layer::load_record;
using record_layer::save_record;

}  // namespace antcrew
