// Which rank sent how much to which.
#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

constexpr std::size_t most_senders = 10;

// Ranks, or, of too many, their hosts.
struct Ends {
  std::vector<std::string> names;
  std::vector<std::size_t> of_rank;
};
Ends ends_of(const RankFacts& ranks) {
  Ends ends;
  const bool by_rank = ranks.host_of.size() <= most_senders;
  for (std::size_t rank = 0; rank < ranks.host_of.size(); ++rank) {
    ends.of_rank.push_back(by_rank ? rank : static_cast<std::size_t>(ranks.host_of[rank]));
    if (by_rank) ends.names.push_back(printable(worker_name(&ranks, static_cast<int>(rank)), 30));
  }
  if (!by_rank) {
    for (const std::string& host : ranks.hosts) ends.names.push_back(printable(host, 30));
  }
  return ends;
}

const LaneSums* with_messages(const CellFigures& cell) {
  for (const LaneSums& sums : cell.cell->metered) {
    if (sums.ranks && !sums.ranks->sent.empty()) return &sums;
  }
  return nullptr;
}

}  // namespace

MaybeFigure messages_figure(const Analysed& study) {
  for (const CellFigures* cell : explained_cells(study)) {
    const LaneSums* sums = with_messages(*cell);
    if (sums == nullptr) continue;
    const Ends ends = ends_of(*sums->ranks);
    const std::size_t count = ends.names.size();
    if (count > most_senders) return std::nullopt;
    std::vector<std::vector<SentData>> all(count, std::vector<SentData>(count));
    for (const SentData& sent : sums->ranks->sent) {
      SentData& to =
          all[ends.of_rank[static_cast<std::size_t>(sent.from)]][ends.of_rank[static_cast<std::size_t>(sent.to)]];
      to.bytes += sent.bytes;
      to.messages += sent.messages;
    }
    Figure figure{"messages", "Who sent how much to whom: " + bar_name(study, *cell->cell)};
    figure.caption =
        "A bar is what one sends in a call, a piece of it what goes to one other. What bodies send by MPI themselves "
        "is "
        "not counted.";
    Panel panel;
    panel.y = categories("sent by", ends.names);
    panel.y.reversed = true;
    panel.x = {"sent in a call", "B"};
    figure.table.heads = {"from \\ to"};
    for (const std::string& name : ends.names) figure.table.heads.push_back(name);
    double most = 0;
    for (std::size_t from = 0; from < count; ++from) {
      std::vector<std::string> row = {ends.names[from]};
      double bytes = 0;
      for (const SentData& sent : all[from]) {
        bytes += sent.bytes;
        row.push_back(sent.messages > 0
                          ? fmt::format("{} in {} message{}", bytes_text(static_cast<std::uint64_t>(sent.bytes)),
                                        count_text(static_cast<std::uint64_t>(sent.messages)),
                                        sent.messages > 1 ? "s" : "")
                          : "");
      }
      most = std::max(most, bytes);
      figure.table.rows.push_back(std::move(row));
    }
    for (std::size_t to = 0; to < count; ++to) {
      Series series{"to " + ends.names[to], Series::Kind::bars, static_cast<int>(to)};
      for (std::size_t from = 0; from < count; ++from) {
        if (!(all[from][to].messages > 0)) continue;
        series.points.push_back(exact_point(
            static_cast<double>(from), all[from][to].bytes, place_of(study, *cell),
            fmt::format("{} to {}: {}", ends.names[from], ends.names[to], figure.table.rows[from][to + 1])));
      }
      if (!series.points.empty()) panel.series.push_back(std::move(series));
    }
    fit_axis(panel.x, 0, most);
    figure.panels.push_back(std::move(panel));
    return figure;
  }
  return std::nullopt;
}

}  // namespace antcrew::internal
