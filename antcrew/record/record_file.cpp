#include "antcrew/record/record_file.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "antcrew/base/error.hpp"
#include "antcrew/record/growing_file.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/record/record_json.hpp"

namespace antcrew::record_layer {
void cannot_write(const std::string& path, int fault) {
  could_not_run("record.write", path, std::string("the record cannot be written (") + std::strerror(fault) + ")",
                "name another place with --save FILE");
}

namespace {

// These give 0, or the number of what went wrong.
int write_all(int file, const std::string& text) {
  for (std::size_t done = 0; done < text.size();) {
    const ssize_t wrote = ::write(file, text.data() + done, text.size() - done);
    if (wrote < 0 && errno == EINTR) continue;
    if (wrote < 0) return errno;
    done += static_cast<std::size_t>(wrote);
  }
  return 0;
}

// Nameless until it is whole, where the file system can do that: a killed writer leaves nothing behind.
int open_nameless(const std::string& fresh) {
  const std::string folder = std::filesystem::path(fresh).parent_path().string();
  return ::open(folder.empty() ? "." : folder.c_str(), O_WRONLY | O_TMPFILE | O_CLOEXEC, 0644);
}

bool give_name(int file, const std::string& fresh) {
  ::unlink(fresh.c_str());  // of a writer that was killed between naming and renaming
  const std::string self = "/proc/self/fd/" + std::to_string(file);
  return ::linkat(AT_FDCWD, self.c_str(), AT_FDCWD, fresh.c_str(), AT_SYMLINK_FOLLOW) == 0;
}

int write_new_file(const std::string& text, const std::string& fresh, bool durable) {
  int file = open_nameless(fresh);
  const bool nameless = file >= 0;
  if (!nameless) file = ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
  if (file < 0) return errno;
  int fault = write_all(file, text);
  if (fault == 0 && durable && ::fsync(file) != 0) fault = errno;
  if (fault == 0 && nameless && !give_name(file, fresh)) fault = errno;
  ::close(file);
  if (fault != 0) ::unlink(fresh.c_str());
  return fault;
}

}  // namespace

namespace {

std::string whole_file(const std::string& path) {
  std::error_code fault;
  if (std::filesystem::is_directory(path, fault)) {
    bad_input("record.file", path, "a directory, not a record", "name the record's file in it");
  }
  std::ifstream file(path, std::ios::binary);
  if (!file) {
    bad_input("record.file", path, std::string("cannot be read (") + std::strerror(errno) + ")",
              "name the file of a saved record");
  }
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

// Up to the last whole line; the one that was being written when the run was killed is no loss worth an error.
void add_rounds(Record& record, const std::string& path, const std::string& token) {
  std::ifstream file(path, std::ios::binary);
  std::string line;
  if (!file || !std::getline(file, line) || line != token) return;
  for (int number = 2; std::getline(file, line) && !file.eof(); ++number) {
    const std::string where = path + ", line " + std::to_string(number);
    if (!apply(record, step_from_json(line, where)))
      bad_input("record.field", where, "names a cell or point that its record has not", "give an undamaged record");
  }
}

}  // namespace

Record load_record(const std::string& path) {
  return load_record(path, &json::Value::parse);
}

Record load_record(const std::string& path, json::Value (*parse)(std::string_view text)) {
  const std::string text = whole_file(path);
  if (text.empty()) {
    bad_input("record.file", path, "empty: a run that has only begun, or never did",
              "give a record that a study saved");
  }
  std::string token;
  Record record = record_from_json(text, path, &token, parse);
  if (!token.empty()) add_rounds(record, rounds_path(path), token);
  return record;
}

void save_record(const Record& record, const std::string& path) {
  save_text(to_json(record), path, true);
}

int try_to_save(const std::string& text, const std::string& path, bool durable) {
  const std::filesystem::path folder = std::filesystem::path(path).parent_path();
  std::error_code unmade;
  if (!folder.empty()) std::filesystem::create_directories(folder, unmade);
  if (unmade) return unmade.value();
  const std::string fresh = path + ".new";
  if (const int fault = write_new_file(text, fresh, durable)) return fault;
  if (::rename(fresh.c_str(), path.c_str()) == 0) return 0;
  const int fault = errno;
  ::unlink(fresh.c_str());
  return fault;
}

void save_text(const std::string& text, const std::string& path, bool durable) {
  if (const int fault = try_to_save(text, path, durable)) cannot_write(path, fault);
}

}  // namespace antcrew::record_layer
