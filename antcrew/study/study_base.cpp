#include "antcrew/study/study_base.hpp"

#include <algorithm>

#include "antcrew/base/error.hpp"

namespace antcrew {

using namespace layers;

namespace {

template <class T>
void check_list(const std::vector<T>& items, const std::string& where, const char* noun) {
  if (items.empty()) bad_input("study.grid", where, std::string("an empty list of ") + noun, "give at least one");
  std::vector<T> sorted = items;
  std::sort(sorted.begin(), sorted.end());
  const auto twice = std::adjacent_find(sorted.begin(), sorted.end());
  if (twice != sorted.end()) {
    bad_input("study.grid", where, std::to_string(*twice) + " stands twice in the list of " + noun, "give each once");
  }
}

}  // namespace

void check_sizes(const std::vector<std::size_t>& sizes, const std::string& where) {
  check_list(sizes, where, "sizes");
  if (std::find(sizes.begin(), sizes.end(), 0u) != sizes.end()) {
    bad_input("study.grid", where, "a size of 0", "sizes start at 1");
  }
}

void check_workers(const std::vector<int>& workers, const std::string& where) {
  check_list(workers, where, "worker counts");
  for (const int count : workers) checked_workers(count, where);
}

StudyBase::StudyBase(std::string title, std::string agreement)
    : title_(std::move(title)), agreement_(std::move(agreement)) {
  if (title_.empty()) bad_input("study.title", "Study", "an empty title", "say what the study is about");
}

void StudyBase::sizes(std::vector<std::size_t> sizes) {
  check_sizes(sizes, "study '" + title_ + "'");
  sizes_ = std::move(sizes);
}

void StudyBase::workers(std::vector<int> workers) {
  check_workers(workers, "study '" + title_ + "'");
  workers_ = std::move(workers);
}

void StudyBase::dimension(const std::string& name, std::vector<std::size_t> values) {
  const std::string where = "study '" + title_ + "'";
  const bool plain = !name.empty() && name != "size" && name.find_first_of("=, ") == std::string::npos;
  if (!plain) bad_input("study.grid", where, "a dimension called '" + name + "'", "use one word that is not 'size'");
  check_list(values, where, ("values of '" + name + "'").c_str());
  dimensions_[name] = std::move(values);
}

void StudyBase::pinning(std::vector<Pin> pins) {
  if (pins.empty()) bad_input("study.grid", "study '" + title_ + "'", "an empty list of pinnings", "give at least one");
  pins_ = std::move(pins);
}

void StudyBase::weak_scaling(std::function<std::size_t(std::size_t, int)> grow) {
  growth_ = std::move(grow);
}

void StudyBase::ladder(const std::vector<VariantHandle>& steps) {
  std::vector<std::string> keys;
  for (const VariantHandle& step : steps) keys.push_back(variants_.at(step.index()).key());
  ladders_.push_back(std::move(keys));
}

VariantHandle StudyBase::add(VariantDefinition variant) {
  const std::string where = "study '" + title_ + "'";
  if (variant.name.empty()) bad_input("study.variant", where, "a variant without a name", "name it");
  const bool known = std::any_of(variants_.begin(), variants_.end(), [&](const VariantDefinition& other) {
    return other.name == variant.name && other.crew == variant.crew;
  });
  if (known) {
    bad_input("study.variant", where, "two variants are called '" + variant.name + "' with the crew " + variant.crew,
              "give one of them another name");
  }
  variants_.push_back(std::move(variant));
  return VariantHandle(variants_.size() - 1);
}

}  // namespace antcrew
