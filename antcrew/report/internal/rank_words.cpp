// Claims and advice on what ranks lose to the network, to each other and to a slow host.
#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/report/internal/words.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

std::string named_or(const Finding& f, const char* otherwise) {
  return f.name.empty() ? otherwise : printable(f.name, 60);
}

std::string rate(const Finding& f) {
  return bytes_text(static_cast<std::uint64_t>(figure(f, "bytes_per_s"))) + " a second";
}

std::string bandwidth_claim(const Finding& f) {
  const bool both_ways = figure(f, "bytes") > 1.05 * figure(f, "link_s") * figure(f, "bytes_per_s");
  return fmt::format("{} a call go between hosts: at {}, measured {}, they take {}{}",
                     bytes_text(static_cast<std::uint64_t>(figure(f, "bytes"))), rate(f),
                     named_or(f, "on the slowest link"), seconds(f, "link_s"),
                     both_ways ? ", edges both ways at once" : "");
}

std::string latency_claim(const Finding& f) {
  std::string text;
  if (figure(f, "messages") > 0)
    text = fmt::format("{} messages a call go over the network, and one to and fro takes {} {}", count(f, "messages"),
                       seconds(f, "round_trip_s"), named_or(f, "between its hosts"));
  if (figure(f, "calls") > 0)
    text += fmt::format("{}{} calls of the crew in one call of the variant each ask all hosts: an empty one takes {}",
                        text.empty() ? "" : "; ", count(f, "calls"), seconds(f, "call_cost_s"));
  return text.empty() ? "each message between hosts takes its time, however short it is" : text;
}

std::string late_claim(const Finding& f) {
  std::string text = "ranks wait for messages that come late, though the network had room";
  if (figure(f, "wait_s") > 0)
    text += fmt::format(": {} waits longest, {} for rank {}", worker_of(f, "rank"), seconds(f, "wait_s"),
                        count(f, "awaited"));
  return text;
}

std::string slow_claim(const Finding& f) {
  std::string text = fmt::format("{} is slower than the others at the same work:", named_or(f, "one host"));
  if (figure(f, "delay_share") > 0.01)
    text += fmt::format(" its ranks wait for a processor {} of the time, on other hosts {}",
                        percent_text(figure(f, "delay_share")), percent_text(figure(f, "others_share")));
  if (figure(f, "ratio") > 1)
    text += fmt::format("{} the same arithmetic takes {:.2f} times as long there",
                        figure(f, "delay_share") > 0.01 ? "," : "", figure(f, "ratio"));
  return text;
}

const Words rank_words[] = {
    {"network-bandwidth", bandwidth_claim,
     [](const Finding&) {
       return std::string(
           "send less (smaller types, only what has changed, larger blocks for each rank), keep() what stays the same, "
           "or compute inner items between begin_exchange() and end_exchange()");
     }},
    {"network-latency", latency_claim,
     [](const Finding&) {
       return std::string(
           "send fewer and larger messages: let the body do the steps and exchange edges itself, or exchange wider "
           "edges every few steps");
     }},
    {"late-message", late_claim,
     [](const Finding& f) {
       return fmt::format(
           "begin_exchange(), compute what needs no edges, end_exchange(): up to {} of these waits could be computing",
           seconds(f, "overlap_s"));
     }},
    {"slow-host", slow_claim,
     [](const Finding&) {
       return std::string(
           "end what else runs there, leave that host out, or hand out chunks (Split::chunks, Split::tapering) so that "
           "it takes fewer");
     }},
};

}  // namespace

std::string worker_of(const Finding& f, FigureName which) {
  return printable(worker_name(f.of == nullptr ? nullptr : ranks_of(*f.of->cell), static_cast<int>(figure(f, which))),
                   60);
}

// Their pieces hold these waits, so they are as long as those of the one with more work.
std::string uneven_ranks_claim(const Finding& f) {
  if (2 * figure(f, "message_s") <= f.loss_s && figure(f, "longest_piece_s") > 0) return {};
  return fmt::format("ranks have uneven work: {} works longest, and the others wait {} for messages meanwhile",
                     worker_of(f, "slowest_rank"), seconds(f, "message_s"));
}

const Words* words_on_ranks(const std::string& id) {
  const auto* found =
      std::find_if(std::begin(rank_words), std::end(rank_words), [&](const Words& words) { return id == words.id; });
  return found == std::end(rank_words) ? nullptr : found;
}

}  // namespace antcrew::internal
