#include "antcrew/cli/history.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdio>
#include <ctime>
#include <filesystem>

#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/analysis/verdict.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/history_changes.hpp"
#include "antcrew/cli/show.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/store/record_lookup.hpp"

namespace antcrew::cli_layer {
namespace {

constexpr std::size_t shown_by_default = 20;
constexpr std::size_t told_from = 50;  // records to be read
constexpr const char* utc_form = "%Y-%m-%dT%H:%M:%SZ";

Store store_of(const StoreOptions& options) {
  const std::string folder = options.used();
  if (folder.empty())
    bad_input("store.none", "ANTCREW_STORE", "no history is kept: it is off, or there is no home directory",
              "name its folder with --store");
  return Store(folder);
}

Index index_of(const Store& store) {
  const bool terminal = ::isatty(STDERR_FILENO) != 0;
  return Index(store, [terminal](std::size_t done, std::size_t of) {
    if (of < told_from || !terminal) return;
    std::fprintf(stderr, "\r%zu of %zu new records read%s", done, of, done == of ? "\n" : "");
  });
}

// A misspelt one would find nothing, and look like an answer.
void check_verdict(const std::string& asked) {
  std::vector<std::string> known;
  for (int k = 0; k <= static_cast<int>(Verdict::holds); ++k) known.emplace_back(name_of(static_cast<Verdict>(k)));
  for (int k = 0; k <= static_cast<int>(Conclusion::Kind::not_confirmed); ++k)
    known.emplace_back(name_of(static_cast<Conclusion::Kind>(k)));
  if (!asked.empty() && std::find(known.begin(), known.end(), asked) == known.end())
    bad_input("cli.option", "--verdict", "no verdict '" + asked + "'", "choose from " + joined(known));
}

std::string in_utc(std::time_t time) {
  return fmt::format("{:%Y-%m-%dT%H:%M:%SZ}", fmt::gmtime(time));
}

// "2026-11-27", "2026-11-27 14:00" in local time, or an age: "90min", "12h", "3d", "2w".
std::string moment(const std::string& text, const std::string& option, bool end_of_day) {
  if (text.empty()) return {};
  std::size_t unit = 0;
  while (unit < text.size() && text[unit] >= '0' && text[unit] <= '9') ++unit;
  constexpr std::pair<const char*, long> units[] = {{"min", 60}, {"h", 3600}, {"d", 86400}, {"w", 7 * 86400}};
  for (const auto& [name, seconds] : units) {
    if (unit > 0 && unit < 7 && text.substr(unit) == name)
      return in_utc(std::time(nullptr) - std::stol(text.substr(0, unit)) * seconds);
  }
  for (const char* form : {"%Y-%m-%d", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S"}) {
    std::tm parts{};
    const char* end = ::strptime(text.c_str(), form, &parts);
    if (end == nullptr || *end != '\0') continue;
    if (end_of_day && std::string(form) == "%Y-%m-%d") parts.tm_hour = 23, parts.tm_min = 59, parts.tm_sec = 59;
    parts.tm_isdst = -1;
    const std::tm asked = parts;
    const std::time_t time = std::mktime(&parts);
    if (parts.tm_mday != asked.tm_mday || parts.tm_mon != asked.tm_mon) break;  // no month has such a day
    return in_utc(time);
  }
  bad_input("cli.option", option, "'" + text + "' is no time",
            "write a day (2026-11-27), a time (2026-11-27 14:00), or how long ago (12h, 3d, 2w)");
}

std::string local_time(const std::string& utc) {
  std::tm parts{};
  if (::strptime(utc.c_str(), utc_form, &parts) == nullptr) return utc.empty() ? "?" : utc;
  return fmt::format("{:%Y-%m-%d %H:%M}", fmt::localtime(::timegm(&parts)));
}

std::string run_lines(const ListedRun& run, int width, const Look& look) {
  const std::string title = run.notes.name.empty() ? run.title : run.notes.name;
  std::string labels;
  for (const std::string& label : run.notes.labels) labels += (labels.empty() ? "  [" : ", ") + printable(label);
  if (!labels.empty()) labels += "]";
  const std::string head = fmt::format("{:>{}}  {}  {}{}", run.stored.number, width, local_time(run.created),
                                       title.empty() ? "?" : printable(title, 60), labels);
  std::string text = styled(head, Style::heading, look) + "\n";
  const auto add = [&](const std::string& line) {
    text += std::string(static_cast<std::size_t>(width) + 2, ' ') + line + "\n";
  };
  if (run.stored.lost) add("lost: its file is gone from the store");
  if (!run.trouble.empty()) add("damaged: " + printable(run.trouble));
  if (!run.stored.lost && run.trouble.empty()) add(run.answer + (run.complete ? "" : " (ended early)"));
  if (!run.notes.note.empty()) add("note: " + printable(run.notes.note));
  return text;
}

std::string list_text(const FoundRuns& found, const std::string& folder, bool searched, const Look& look) {
  if (found.stored == 0) return fmt::format("Nothing is stored in {} yet.\n", folder);
  const auto runs = [](std::size_t count) { return fmt::format("{} run{}", count_text(count), count == 1 ? "" : "s"); };
  std::string text = searched ? fmt::format("{} of {} found", count_text(found.matching), runs(found.stored))
                              : runs(found.stored) + " stored";
  text += fmt::format(" in {} ({}){}\n", folder, bytes_text(found.bytes), found.runs.empty() ? "." : ", newest first:");
  if (!found.runs.empty()) text += "\n";
  int width = 2;
  for (const ListedRun& run : found.runs)
    width = std::max(width, static_cast<int>(std::to_string(run.stored.number).size()));
  for (const ListedRun& run : found.runs) text += run_lines(run, width, look);
  if (found.matching > found.runs.size())
    text += fmt::format("\n{} more: --newest N shows more of them, --all all.\n",
                        count_text(found.matching - found.runs.size()));
  return text;
}

std::string list_json(const FoundRuns& found, const std::string& folder) {
  Json runs = Json::array();
  for (const ListedRun& r : found.runs) {
    runs.push_back({{"number", r.stored.number},
                    {"run", r.stored.run},
                    {"file", r.stored.path},
                    {"title", r.title},
                    {"name", r.notes.name},
                    {"labels", r.notes.labels},
                    {"note", r.notes.note},
                    {"created", r.created},
                    {"processor", r.processor},
                    {"system", r.system},
                    {"verdict", r.kind},
                    {"answer", r.answer},
                    {"complete", r.complete},
                    {"lost", r.stored.lost},
                    {"trouble", r.trouble},
                    {"bytes", r.bytes}});
  }
  const Json all{{"store", folder},
                 {"stored", found.stored},
                 {"matching", found.matching},
                 {"bytes", found.bytes},
                 {"runs", runs}};
  return all.dump(2) + "\n";
}

// Of what can be read; the rest is in the list as text.
std::string list_page(const FoundRuns& found) {
  std::vector<NamedRecord> records;
  for (const ListedRun& run : found.runs) {
    if (run.stored.lost || !run.trouble.empty()) continue;
    records.push_back({title_of(run.stored, run.notes), load_record(run.stored.path)});
  }
  if (records.empty())
    bad_input("store.none", "list --as page", "no run that could be read was found", "see `antcrew list`");
  return history_page_of(records, false);
}

}  // namespace

void add_list_options(CLI::App& app, ListOptions& o) {
  app.add_option("TEXT", o.search.text, "in the title, name, note or a label");
  app.add_option("--title", o.search.title, "in the title or name")->type_name("TEXT");
  app.add_option("--variant", o.search.variant, "with a variant that has this in its name")->type_name("TEXT");
  app.add_option("--machine", o.search.machine, "in the name of the processor or the system")->type_name("TEXT");
  app.add_option("--since", o.since, "measured since a day, a time or an age, such as 2026-11-27 or 3d")
      ->type_name("TIME");
  app.add_option("--until", o.until, "measured until then")->type_name("TIME");
  app.add_option("--label", o.search.label, "with this label")->type_name("LABEL");
  app.add_option("--verdict", o.search.verdict,
                 "with a cell of this verdict, such as 'wrong answer', or with this answer: best, faster, not faster, "
                 "cannot tell")
      ->type_name("VERDICT");
  o.search.newest = shown_by_default;
  app.add_option("--newest", o.search.newest, "so many at most")->type_name("N")->capture_default_str();
  app.add_flag("--all", o.all, "all of them");
  app.add_flag("--changes", o.changes, "instead: where speedups changed for good, over the runs that are found");
  app.add_option("--as", o.form, "form: text, json, page (all that are found, run after run)")
      ->type_name("FORM")
      ->capture_default_str();
  app.add_option("--to", o.to, "write to this file instead of standard output")->type_name("FILE");
  app.add_flag("--rebuild", o.rebuild, "put the index aside and make a new one from the records");
  add_store_options(app, o.store, false);
}

int list_runs(const ListOptions& options) {
  check_plain_form(options.form, "a list", {"page"});
  if (options.changes && options.form == "page")
    bad_input("cli.option", "--changes", "a page tells lasting changes by itself", "leave out --changes");
  Search search = options.search;
  check_verdict(search.verdict);
  if (search.newest < 1) bad_input("cli.option", "--newest", "0 runs", "give 1 or more, or --all");
  if (options.all) search.newest = 0;
  search.since = moment(options.since, "--since", false);
  search.until = moment(options.until, "--until", true);
  const Store store = store_of(options.store);
  if (options.rebuild) {
    const std::string aside = put_index_aside(store.folder());
    if (!aside.empty()) std::fprintf(stderr, "The old index is %s now.\n", aside.c_str());
  }
  const FoundRuns found = index_of(store).find(search);
  const Look look = options.to.empty() ? output_look() : Look();
  const bool searched = found.matching != found.stored;
  if (options.changes) {
    put_out(options.form == "json" ? changes_json(found) : wrapped(changes_text(found), look.width), options.to);
    return found.runs.empty() ? exit_answer_is_no : exit_done;
  }
  if (options.form == "page") {
    put_out(list_page(found), options.to);
    return exit_done;
  }
  put_out(options.form == "json" ? list_json(found, store.folder())
                                 : wrapped(list_text(found, store.folder(), searched, look), look.width),
          options.to);
  return searched && found.runs.empty() ? exit_answer_is_no : exit_done;
}

void add_mark_options(CLI::App& app, MarkOptions& o) {
  app.add_option("RECORD", o.record,
                 "the number of a stored run, last, last-1, or a label, which stands for all that have it")
      ->required();
  app.add_option("--label", o.labels, "put this label on it, a word; may be given again")
      ->type_name("LABEL")
      ->allow_extra_args(false);
  app.add_option("--no-label", o.no_labels, "take this label off; may be given again")
      ->type_name("LABEL")
      ->allow_extra_args(false);
  app.add_option("--name", o.name, "what it is called in lists, in place of its title; empty = the title again")
      ->type_name("TEXT");
  app.add_option("--note", o.note, "what is to be remembered of it; empty = nothing")->type_name("TEXT");
  add_plain_form(app, o.form);
  add_store_options(app, o.store, false);
}

int mark_run(const MarkOptions& options) {
  check_plain_form(options.form, "a mark");
  for (const std::string& label : options.labels) check_label(label);
  Store store = store_of(options.store);
  if (is_file_name(options.record))
    bad_input("store.none", options.record, "a file: only stored runs have labels and notes",
              "store it first: antcrew import " + options.record);
  std::vector<std::pair<StoredRun, Notes>> changed;  // all of it, before any of it is written
  for (const StoredRun& run : runs_called(options.record, store)) {
    Notes notes = store.notes_of(run);
    for (const std::string& label : options.no_labels) {
      const auto at = std::find(notes.labels.begin(), notes.labels.end(), label);
      if (at == notes.labels.end())
        bad_input("store.label", label, fmt::format("run {} has no such label", run.number),
                  notes.labels.empty() ? "it has none" : "it has " + joined(notes.labels));
      notes.labels.erase(at);
    }
    for (const std::string& label : options.labels) {
      if (std::find(notes.labels.begin(), notes.labels.end(), label) == notes.labels.end())
        notes.labels.push_back(label);
    }
    if (options.name) notes.name = *options.name;
    if (options.note) notes.note = *options.note;
    changed.emplace_back(run, std::move(notes));
  }
  Json marked = Json::array();
  for (const auto& [run, notes] : changed) {
    if (!(notes == store.notes_of(run))) store.note(run, notes);
    if (options.form == "json") {
      marked.push_back({{"number", run.number}, {"name", notes.name}, {"labels", notes.labels}, {"note", notes.note}});
      continue;
    }
    fmt::print("Run {}: {}{}{}\n", run.number, notes.name.empty() ? "no name" : "\"" + printable(notes.name) + "\"",
               notes.labels.empty() ? ", no label" : ", labels " + joined(notes.labels),
               notes.note.empty() ? ", no note" : ", note: " + printable(notes.note));
  }
  if (options.form == "json") put_out(Json{{"marked", std::move(marked)}}.dump(2) + "\n", "");
  return exit_done;
}

void add_import_options(CLI::App& app, ImportOptions& o) {
  app.add_option("FILE", o.files, "records; a folder stands for all .json files in it")->required();
  add_plain_form(app, o.form);
  add_store_options(app, o.store, false);
}

namespace {

std::vector<std::string> with_folders(const std::vector<std::string>& named) {
  std::vector<std::string> all;
  for (const std::string& name : named) {
    std::error_code fault;
    if (!std::filesystem::is_directory(name, fault)) {
      all.push_back(name);
      continue;
    }
    std::vector<std::string> inside;
    for (const auto& entry : std::filesystem::directory_iterator(name, fault)) {
      if (entry.path().extension() == ".json") inside.push_back(entry.path().string());
    }
    if (fault) could_not_run("store.read", name, "cannot be read (" + fault.message() + ")", "name its files");
    if (inside.empty()) bad_input("record.file", name, "no .json file is in this folder", "name the files of records");
    std::sort(inside.begin(), inside.end());
    all.insert(all.end(), inside.begin(), inside.end());
  }
  return all;
}

}  // namespace

int import_records(const ImportOptions& options) {
  check_plain_form(options.form, "an import");
  Json stored = Json::array();
  Store store = store_of(options.store);
  const std::vector<std::string> files = with_folders(options.files);
  std::size_t refused = 0;
  for (const std::string& file : files) {
    try {
      const Kept kept = store.keep(file, files.size() == 1);
      if (options.form == "json") {
        constexpr const char* hows[] = {"fresh", "replaced", "already there"};
        stored.push_back({{"number", kept.number}, {"file", file}, {"how", hows[static_cast<std::size_t>(kept.how)]}});
        continue;
      }
      const char* how = kept.how == Kept::How::fresh      ? "stored as {}: {}\n"
                        : kept.how == Kept::How::replaced ? "stored as {}, with more trials than before: {}\n"
                                                          : "stored as {} already: {}\n";
      fmt::print(fmt::runtime(how), kept.number, file);
    } catch (const Error& error) {
      if (error.kind() == Error::Kind::could_not_run || error.id() == "store.format") throw;
      std::fflush(stdout);
      std::fprintf(stderr, "antcrew: %s\n", printable(error.what()).c_str());
      ++refused;
    }
  }
  if (options.form == "json") put_out(Json{{"stored", std::move(stored)}, {"refused", refused}}.dump(2) + "\n", "");
  return refused > 0 ? exit_bad_input : exit_done;
}

void add_remove_options(CLI::App& app, RemoveOptions& o) {
  app.add_option("RECORD", o.records, "numbers of stored runs, last, or labels; a label stands for all that have it");
  app.add_option("--keep", o.keep, "remove all but the newest N and those with a label, a name or a note")
      ->type_name("N");
  add_dry_run(app, o.dry_run, "show what would be removed, and remove nothing");
  add_plain_form(app, o.form);
  add_store_options(app, o.store, false);
}

int remove_runs(const RemoveOptions& options) {
  check_plain_form(options.form, "a removal");
  if (options.records.empty() == !options.keep)
    bad_input("cli.option", "remove", options.keep ? "both runs and --keep" : "nothing to remove",
              "name runs, or give --keep N");
  if (options.keep && *options.keep < 0) bad_input("cli.option", "--keep", "fewer than none", "give 0 or more");
  Store store = store_of(options.store);
  Index index = index_of(store);
  const FoundRuns all = index.find({});
  std::vector<StoredRun> going;
  if (options.keep) {
    std::size_t newest = 0;
    for (const ListedRun& run : all.runs) {
      if (!run.stored.lost && newest++ < static_cast<std::size_t>(*options.keep)) continue;
      if (run.notes == Notes{}) going.push_back(run.stored);
    }
  }
  for (const std::string& word : options.records) {
    if (is_file_name(word))
      bad_input("store.none", word, "a file, not a stored run", "name stored runs; a file of yours is yours to remove");
    // A lost one is in the index alone.
    const auto lost = std::find_if(all.runs.begin(), all.runs.end(), [&](const ListedRun& run) {
      return run.stored.lost && std::to_string(run.stored.number) == word;
    });
    const auto named = lost != all.runs.end() ? std::vector{lost->stored} : runs_called(word, store);
    going.insert(going.end(), named.begin(), named.end());
  }
  std::vector<std::string> numbers;
  for (const StoredRun& run : going) numbers.push_back(std::to_string(run.number));
  const std::string which = going.empty() ? "nothing" : joined(numbers);
  if (!options.dry_run && !going.empty()) {
    store.forget(going);
    index.forget(going);
  }
  if (options.form == "json") {
    Json gone = Json::array();
    for (const StoredRun& run : going) gone.push_back(run.number);
    put_out(Json{{options.dry_run ? "would_be_removed" : "removed", std::move(gone)}}.dump(2) + "\n", "");
  } else {
    fmt::print("{}: {}\n", options.dry_run ? "Would be removed" : "Removed", which);
  }
  return exit_done;
}

}  // namespace antcrew::cli_layer
