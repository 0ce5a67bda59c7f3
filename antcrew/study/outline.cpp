#include "antcrew/study/outline.hpp"

#include <algorithm>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"

namespace antcrew::study_layer {
namespace {

std::string text_of(int value) {
  return std::to_string(value);
}
std::string text_of(std::size_t value) {
  return std::to_string(value);
}
std::string text_of(const PointValue& value) {
  return printable(value.text());
}

template <class T>
void check_list(const std::vector<T>& items, const std::string& where, const char* noun) {
  if (items.empty()) bad_input("study.grid", where, std::string("an empty list of ") + noun, "give at least one");
  std::vector<T> sorted = items;
  std::sort(sorted.begin(), sorted.end());
  const auto twice = std::adjacent_find(sorted.begin(), sorted.end());
  if (twice != sorted.end()) {
    bad_input("study.grid", where, text_of(*twice) + " is listed twice among the " + noun, "give each once");
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
  for (const int count : workers) internal::checked_workers(count, where);
}

// The first mistake is the one that is told: later ones may follow from it.
template <class Describe>
void Outline::described(const Describe& describe) {
  try {
    describe("study '" + title_ + "'");
  } catch (const Error& error) {
    if (!mistake_) mistake_ = error;
  }
}

Outline::~Outline() = default;

void Outline::check_description() const {
  if (mistake_) throw Error(*mistake_);
}

Outline::Outline(std::string title, std::string agreement, const std::string& mistake)
    : title_(printable(title)), agreement_(std::move(agreement)) {
  described([&](const std::string& where) {
    if (title_.empty()) bad_input("study.title", "Study", "an empty title", "say what the study is about");
    if (!mistake.empty()) bad_input("study.tolerance", where, mistake, "give zero or more, such as within(1e-9)");
  });
}

void Outline::sizes(std::vector<std::size_t> sizes) {
  described([&](const std::string& where) {
    check_sizes(sizes, where);
    sizes_ = std::move(sizes);
  });
}

void Outline::workers(std::vector<int> workers) {
  described([&](const std::string& where) {
    check_workers(workers, where);
    workers_ = std::move(workers);
  });
}

void Outline::dimension(const std::string& name, std::vector<PointValue> values) {
  described([&](const std::string& where) {
    const bool plain =
        !name.empty() && name != "size" && name.find_first_of("=, ") == std::string::npos && printable(name) == name;
    if (!plain) {
      bad_input("study.grid", where, "a dimension called '" + printable(name) + "'", "use one word that is not 'size'");
    }
    check_list(values, where, ("values of '" + name + "'").c_str());
    dimensions_[name] = std::move(values);
  });
}

void Outline::set_inputs(int count) {
  described([&](const std::string& where) {
    if (count < 1)
      bad_input("study.inputs", where, "a study has one input at least", "give the number of different inputs");
    inputs_ = count;
  });
}

void Outline::pinning(std::vector<Pin> pins) {
  described([&](const std::string& where) {
    if (pins.empty()) bad_input("study.grid", where, "an empty list of pinnings", "give at least one");
    pins_ = std::move(pins);
  });
}

void Outline::ladder(const std::vector<VariantHandle>& steps) {
  described([&](const std::string& where) {
    std::vector<std::string> keys;
    for (const VariantHandle& step : steps) {
      if (step.study_ != this || step.index() >= variants_.size())
        bad_input("study.variant", where, "a step of a ladder that is no variant of it", "give its own variants");
      keys.push_back(variants_[step.index()].key());
    }
    ladders_.push_back(std::move(keys));
  });
}

// A variant with a mistake is kept too, so that handles of the others stay right; the study does not run.
VariantHandle Outline::add(VariantOutline variant) {
  variant.name = printable(variant.name);
  described([&](const std::string& where) {
    if (variant.name.empty()) bad_input("study.variant", where, "a variant without a name", "name it");
    const bool known = std::any_of(variants_.begin(), variants_.end(), [&](const VariantOutline& other) {
      return other.name == variant.name && other.crew == variant.crew;
    });
    if (known) {
      bad_input("study.variant", where, "two variants are called '" + variant.name + "' with the crew " + variant.crew,
                "give one of them another name");
    }
  });
  variants_.push_back(std::move(variant));
  return VariantHandle(*this, variants_.size() - 1);
}

VariantHandle Outline::add_probe(VariantOutline probe, VariantHandle of) {
  probe.kind = CellKind::probe;
  described([&](const std::string& where) {
    if (of.study_ != this || of.index() >= variants_.size()) {
      bad_input("study.variant", where,
                "the probe '" + printable(probe.name) + "' refers to a variant of another study",
                "give the handle that variant() returned");
    }
    probe.probe_of = variants_[of.index()].key();
  });
  return add(std::move(probe));
}

void Outline::baseline_source(const std::string& file, const std::string& part) {
  sources_.push_back({"baseline", file, part});
}

}  // namespace antcrew::study_layer

namespace antcrew {

using namespace base_layer;

using namespace layers;

VariantHandle VariantHandle::source(const std::string& file, const std::string& part) const {
  if (index_ < study_->variants_.size()) study_->sources_.push_back({study_->variants_[index_].key(), file, part});
  return *this;
}

VariantHandle VariantHandle::chooses_workers() const {
  if (index_ < study_->variants_.size()) study_->variants_[index_].chooses_workers = true;
  return *this;
}

VariantHandle VariantHandle::keeps(const std::string& what) const {
  if (index_ < study_->variants_.size()) study_->variants_[index_].keeps = printable(what);
  return *this;
}

}  // namespace antcrew
