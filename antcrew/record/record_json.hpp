// The JSON form of a record; docs/record.schema.json describes it.
//
// Unknown fields are ignored and absent ones keep their defaults, so that an older Ant Crew reads what a newer one of
// the same version added, and a newer one reads every record there ever was. Trials stand as columns: a list a field.
#pragma once

#include <string>
#include <string_view>

#include "antcrew/record/forward.hpp"
#include "antcrew/record/layer.hpp"
#include "antcrew/record/step.hpp"

namespace antcrew::record_layer {

// With a token: the frame of a run under way, whose steps stand in another file that begins with that token.
std::string to_json(const Record& record, const std::string& rounds_token = {});
std::string to_json(const Machine& machine);
std::string to_json(const RecordStep& step);  // one line, without its end

// Throws Error: record.syntax (not JSON, or cut short), record.format (other JSON), record.version (from a newer Ant
// Crew), record.field (a field is missing or of the wrong type). `where` names the source, usually a file. What comes
// back is of the newest version. rounds_token, where given, is set to the frame's, or emptied. `parse` stands in for
// json::Value::parse, and throws what that throws.
using ParseJson = json::Value (*)(std::string_view text);
Record record_from_json(const std::string& text, const std::string& where, std::string* rounds_token = nullptr);
Record record_from_json(const std::string& text, const std::string& where, std::string* rounds_token, ParseJson parse);
RecordStep step_from_json(const std::string& text, const std::string& where);

}  // namespace antcrew::record_layer
