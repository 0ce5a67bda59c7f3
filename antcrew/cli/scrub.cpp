#include "antcrew/cli/scrub.hpp"

#include <pwd.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdlib>
#include <vector>

#include "antcrew/record/json.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/record/record_json.hpp"

namespace antcrew::cli_layer {
namespace {

bool in_word(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
}
bool in_path(char c) {
  return in_word(c) || c == '/' || c == '.' || c == '-' || c == '+' || c == '~' || c == '@' || (c & 0x80) != 0;
}

struct Secret {
  std::string text;
  std::string by;
};

const std::vector<Secret>& secrets() {
  static const std::vector<Secret> all = [] {
    std::vector<Secret> found;
    std::array<char, 256> host{};
    if (::gethostname(host.data(), host.size() - 1) == 0) {
      found.push_back({host.data(), "HOST"});
      const std::string whole = host.data();
      if (const std::size_t dot = whole.find('.'); dot != std::string::npos)
        found.push_back({whole.substr(0, dot), "HOST"});
    }
    std::vector<std::string> users;
    if (const passwd* entry = ::getpwuid(::getuid())) users.emplace_back(entry->pw_name);
    for (const char* name : {"USER", "LOGNAME"}) {
      if (const char* value = std::getenv(name)) users.emplace_back(value);
    }
    for (const std::string& user : users) found.push_back({user, "USER"});
    return found;
  }();
  return all;
}

// Whole words only: a host called "on" is in many sentences.
void replace_words(std::string& text, const Secret& secret) {
  if (secret.text.empty()) return;
  for (std::size_t at = text.find(secret.text); at != std::string::npos; at = text.find(secret.text, at)) {
    const std::size_t end = at + secret.text.size();
    const bool whole = (at == 0 || !in_word(text[at - 1])) && (end == text.size() || !in_word(text[end]));
    if (whole) text.replace(at, secret.text.size(), secret.by);
    at = whole ? at + secret.by.size() : end;
  }
}

// Of an absolute path with two parts or more, the last part.
void shorten_paths(std::string& text) {
  for (std::size_t at = text.find('/'); at != std::string::npos; at = text.find('/', at)) {
    const bool absolute = at == 0 || !in_path(text[at - 1]);
    std::size_t end = at;
    while (end < text.size() && in_path(text[end])) ++end;
    const std::size_t last = text.rfind('/', end - 1);
    if (absolute && last != at && end - at > 2) {
      // A path of a folder ends in its slash.
      const std::string kept = "…" + text.substr(last, end - last);
      text.replace(at, end - at, kept);
      at += kept.size();
    } else {
      at = end;
    }
  }
}

// "~ann/tides" names somebody, whoever that is.
void replace_homes(std::string& text) {
  for (std::size_t at = text.find('~'); at != std::string::npos; at = text.find('~', at + 1)) {
    std::size_t end = at + 1;
    while (end < text.size() && in_word(text[end])) ++end;
    const bool begins = at == 0 || !in_word(text[at - 1]);
    const bool name = end > at + 1 && (text[at + 1] < '0' || text[at + 1] > '9');  // "~3 s" is about three
    if (begins && name) text.replace(at + 1, end - at - 1, "USER");
  }
}

void scrub_strings(Json& json) {
  if (json.is_string()) {
    json = scrub_text(json.get<std::string>());
  } else if (json.is_array()) {
    for (Json& item : json.items()) scrub_strings(item);
  } else if (json.is_object()) {
    Json scrubbed = Json::object();
    for (auto& [name, value] : json.members()) {
      scrub_strings(value);
      // Names of phases, counters and dimensions; a field of the record is one word.
      const bool field = std::all_of(name.begin(), name.end(), in_word);
      scrubbed[field ? name : scrub_text(name)] = std::move(value);
    }
    json = std::move(scrubbed);
  }
}

}  // namespace

std::string scrub_text(const std::string& text) {
  std::string scrubbed = text;
  replace_homes(scrubbed);
  shorten_paths(scrubbed);
  for (const Secret& secret : secrets()) replace_words(scrubbed, secret);
  return scrubbed;
}

Record scrub(const Record& record) {
  Json json = Json::parse(to_json(record));
  scrub_strings(json);
  return record_from_json(json.dump(), "the scrubbed record");
}

}  // namespace antcrew::cli_layer
