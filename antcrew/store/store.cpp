#include "antcrew/store/store.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <pwd.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <climits>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <optional>
#include <sstream>
#include <thread>
#include <tuple>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/record/record_json.hpp"

namespace antcrew::store_layer {
namespace {

namespace files = std::filesystem;

constexpr int newest_version = 1;
constexpr auto longest_wait = std::chrono::seconds(10);
constexpr const char* record_ending = ".json";
constexpr const char* notes_ending = ".notes.json";

bool ends_in(const std::string& text, const std::string& end) {
  return text.size() >= end.size() && text.compare(text.size() - end.size(), end.size(), end) == 0;
}

std::string records_folder(const std::string& folder) {
  return folder + "/records";
}
std::string facts_path(const std::string& folder) {
  return folder + "/store.json";
}
std::string stem_of(const std::string& folder, int number, const std::string& run) {
  return fmt::format("{}/{:06}-{}", records_folder(folder), number, run);
}

[[noreturn]] void cannot_write(const std::string& folder, int fault) {
  could_not_run("store.write", folder, fmt::format("the store cannot be written ({})", std::strerror(fault)),
                "make room, or name another folder with --store");
}

// Whoever writes holds it. Given back by the kernel when its holder dies.
class Lock {
 public:
  explicit Lock(const std::string& folder)
      : file_(::open((folder + "/lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644)) {
    if (file_ < 0) cannot_write(folder, errno);
    const auto end = std::chrono::steady_clock::now() + longest_wait;
    while (::flock(file_, LOCK_EX | LOCK_NB) != 0) {
      const int fault = errno;
      if (fault == EINTR) continue;
      if (fault == EWOULDBLOCK && std::chrono::steady_clock::now() < end) {
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
        continue;
      }
      ::close(file_);
      if (fault == EWOULDBLOCK)
        could_not_run("store.busy", folder, "another program has been writing to the store for ten seconds",
                      "try again; a record is stored later with `antcrew import FILE`");
      cannot_write(folder, fault);
    }
  }
  ~Lock() { ::close(file_); }
  Lock(const Lock&) = delete;
  Lock& operator=(const Lock&) = delete;

 private:
  int file_;
};

std::optional<std::string> text_of(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return std::nullopt;
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

void write_text(const std::string& folder, const std::string& text, const std::string& path, bool durable) {
  if (const int fault = record_layer::try_to_save(text, path, durable)) cannot_write(folder, fault);
}

struct StoreFacts {
  bool there = false;
  int highest = 0;
};

// Throws where the folder is something else, or from the future.
StoreFacts facts_of(const std::string& folder) {
  const std::string path = facts_path(folder);
  const auto text = text_of(path);
  if (!text && errno != ENOENT && errno != ENOTDIR)
    could_not_run("store.read", path, fmt::format("cannot be read ({})", std::strerror(errno)),
                  "name another folder with --store");
  if (!text) return {};
  const Json json = Json::parsed(*text).value_or(Json());
  const bool known = json.is_object() && json.value("format", Json()) == "antcrew-store" &&
                     json.value("version", Json()).is_number_integer();
  if (!known)
    bad_input("store.format", path, "damaged, or not a store of Ant Crew's", "name another folder with --store");
  const auto version = json["version"].get<std::int64_t>();
  if (version > newest_version)
    bad_input("store.format", path,
              fmt::format("a store of version {}, this Ant Crew ({}) knows {}", version,
                          record_layer::library_version(), newest_version),
              "use a newer Ant Crew, or another folder with --store");
  const Json highest = json.value("highest", Json(0));
  if (!highest.is_number_integer()) return {true, 0};
  return {true, static_cast<int>(std::clamp<std::int64_t>(highest.get<std::int64_t>(), 0, INT_MAX - 1))};
}

void write_facts(const std::string& folder, int highest) {
  const Json json{{"format", "antcrew-store"}, {"version", newest_version}, {"highest", highest}};
  write_text(folder, json.dump() + "\n", facts_path(folder), false);
}

// "000012-0123456789abcdef.json"; how it ends is left in `ending`.
bool parse_name(const std::string& name, StoredRun& run, std::string& ending) {
  const std::size_t dash = name.find('-');
  if (dash == std::string::npos || dash == 0 || dash > 9) return false;
  if (!std::all_of(name.begin(), name.begin() + static_cast<std::ptrdiff_t>(dash),
                   [](char c) { return c >= '0' && c <= '9'; }))
    return false;
  const std::size_t dot = name.find('.', dash);
  if (dot == std::string::npos || dot == dash + 1) return false;
  run.number = std::stoi(name.substr(0, dash));
  run.run = name.substr(dash + 1, dot - dash - 1);
  ending = name.substr(dot);
  return run.number > 0;
}

std::vector<StoredRun> runs_in(const std::string& folder) {
  const std::string records = records_folder(folder);
  DIR* open = ::opendir(records.c_str());
  if (open == nullptr && (errno == ENOENT || errno == ENOTDIR)) return {};
  if (open == nullptr)
    could_not_run("store.read", records, fmt::format("cannot be read ({})", std::strerror(errno)),
                  "name another folder with --store");
  struct Named {
    StoredRun run;
    bool record;
  };
  std::vector<Named> named;
  while (const dirent* entry = ::readdir(open)) {
    Named one{};
    std::string ending;
    if (!parse_name(entry->d_name, one.run, ending)) continue;
    one.record = ending == record_ending;
    if (one.record || ending == notes_ending) named.push_back(std::move(one));
  }
  ::closedir(open);
  std::sort(named.begin(), named.end(), [](const Named& l, const Named& r) {
    return std::tie(l.run.number, l.run.run) < std::tie(r.run.number, r.run.run);
  });
  std::vector<StoredRun> runs;
  for (Named& one : named) {
    const bool other_file = !runs.empty() && runs.back().number == one.run.number && runs.back().run == one.run.run;
    if (!other_file) {
      runs.push_back(std::move(one.run));
      runs.back().path = stem_of(folder, runs.back().number, runs.back().run) + record_ending;
      runs.back().lost = true;
    }
    if (one.record) runs.back().lost = false;
    if (!one.record) runs.back().notes = stem_of(folder, runs.back().number, runs.back().run) + notes_ending;
  }
  return runs;
}

std::size_t trials_in(const record_layer::Record& record) {
  std::size_t trials = 0;
  for (const record_layer::Cell& cell : record.cells) trials += cell.trials.size();
  return trials;
}

// As the file has it, but for one that is still growing in two files.
std::string whole_text(const std::string& path, const record_layer::Record& record) {
  std::string token;
  const auto text = text_of(path);
  if (!text) return to_json(record);
  if (text->find("\"rounds_beside\"") == std::string::npos) return *text;  // large ones are not read twice
  record_layer::record_from_json(*text, path, &token);
  return token.empty() ? *text : to_json(record);
}

void make_folders(const std::string& folder) {
  std::error_code fault;
  files::create_directories(records_folder(folder), fault);
  if (fault) cannot_write(folder, fault.value());
}

bool is_data_folder(const char* path) {
  return path != nullptr && path[0] == '/';
}

}  // namespace

std::vector<StoredRun> Store::runs() const {
  facts_of(folder_);
  return runs_in(folder_);
}

Kept Store::keep(const std::string& path, bool durable) {
  facts_of(folder_);
  const record_layer::Record record = record_layer::load_record(path);
  const std::string run = run_id(record);
  const std::string text = whole_text(path, record);
  make_folders(folder_);
  const Lock lock(folder_);
  const StoreFacts facts = facts_of(folder_);
  if (!facts.there) write_facts(folder_, 0);
  int highest = facts.highest;
  for (const StoredRun& stored : runs_in(folder_)) {
    highest = std::max(highest, stored.number);
    if (stored.run != run) continue;
    if (stored.lost) {
      write_text(folder_, text, stored.path, durable);
      return {stored.number, Kept::How::replaced};
    }
    if (text_of(stored.path) == text) return {stored.number, Kept::How::already};
    std::size_t before = 0;
    try {
      before = trials_in(record_layer::load_record(stored.path));
    } catch (const Error&) {  // damaged: what is whole takes its place
    }
    const bool more = trials_in(record) > before;
    if (more) write_text(folder_, text, stored.path, durable);
    return {stored.number, more ? Kept::How::replaced : Kept::How::already};
  }
  write_text(folder_, text, stem_of(folder_, highest + 1, run) + record_ending, durable);
  return {highest + 1, Kept::How::fresh};
}

Notes Store::notes_of(const StoredRun& run) const {
  if (run.notes.empty()) return {};
  const auto text = text_of(run.notes);
  if (!text) return {};  // forgotten meanwhile
  const Json json = Json::parsed(*text).value_or(Json());
  const auto damaged = [&]() {
    bad_input("store.format", run.notes, "these notes are damaged", "mend or remove this file");
  };
  if (!json.is_object()) damaged();
  try {
    return {json.value("name", "").get<std::string>(),
            json.value("labels", Json::array()).get<std::vector<std::string>>(),
            json.value("note", "").get<std::string>()};
  } catch (const json::FieldError&) {
    damaged();
  }
  return {};
}

void Store::note(const StoredRun& run, const Notes& notes) {
  for (const std::string& label : notes.labels) check_label(label);
  facts_of(folder_);
  const Lock lock(folder_);
  const bool there =
      ::access(run.path.c_str(), F_OK) == 0 || (!run.notes.empty() && ::access(run.notes.c_str(), F_OK) == 0);
  if (!there)
    bad_input("store.none", std::to_string(run.number), "this run was forgotten meanwhile", "see `antcrew list`");
  const Json json{{"name", notes.name}, {"labels", notes.labels}, {"note", notes.note}};
  write_text(folder_, json.dump(1) + "\n", stem_of(folder_, run.number, run.run) + notes_ending, true);
}

void Store::forget(const std::vector<StoredRun>& runs) {
  facts_of(folder_);
  const Lock lock(folder_);
  const StoreFacts facts = facts_of(folder_);  // as whoever had the lock before left them
  int highest = facts.highest;
  for (const StoredRun& run : runs_in(folder_)) highest = std::max(highest, run.number);
  if (highest > facts.highest) write_facts(folder_, highest);
  for (const StoredRun& run : runs) {
    for (const std::string& path : {run.path, run.notes}) {
      if (!path.empty() && ::unlink(path.c_str()) != 0 && errno != ENOENT) cannot_write(folder_, errno);
    }
  }
}

void check_label(const std::string& label) {
  const auto refuse = [&](const std::string& why) {
    bad_input("store.label", printable(label, 60), "no label: " + why, "choose a word, such as before-rewrite");
  };
  if (label.empty()) refuse("it is empty");
  if (label.size() > 100) refuse("it is longer than 100 bytes");
  if (printable(label) != label) refuse("it has signs that cannot be shown");
  if (label.find_first_of("/,") != std::string::npos) refuse("it has a slash or a comma");
  if (label.find_first_of(" \t") != std::string::npos) refuse("it has a blank");
  if (label.front() == '-') refuse("it begins with a hyphen");
  if (ends_in(label, record_ending)) refuse("it ends in .json, as a file does");
  const auto number = [](const std::string& text) {
    return !text.empty() && text.find_first_not_of("0123456789") == std::string::npos;
  };
  if (number(label)) refuse("it is a number, as each run has one");
  if (label == "last" || (label.rfind("last-", 0) == 0 && number(label.substr(5))))
    refuse("'" + label + "' has a meaning of its own");
}

std::string default_store() {
  if (const char* asked = std::getenv("ANTCREW_STORE"); asked != nullptr && *asked != '\0')
    return std::strcmp(asked, "off") == 0 ? std::string() : std::string(asked);
  if (const char* data = std::getenv("XDG_DATA_HOME"); is_data_folder(data)) return std::string(data) + "/antcrew";
  std::string home;
  if (const char* value = std::getenv("HOME"); is_data_folder(value)) home = value;
  if (home.empty()) {
    if (const passwd* entry = ::getpwuid(::getuid()); entry != nullptr && is_data_folder(entry->pw_dir))
      home = entry->pw_dir;
  }
  std::error_code fault;
  if (home.empty() || !files::is_directory(home, fault)) return {};
  return home + "/.local/share/antcrew";
}

std::string index_path(const std::string& folder) {
  return folder + "/index.sqlite";
}

}  // namespace antcrew::store_layer
