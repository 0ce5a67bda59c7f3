// What the crew of ranks needs of MPI: faults that are errors, waits that let others run, blocks of any length.
//
// One thread of a rank uses a Link. Ranks of one communicator only; it has a copy of its own, so its messages meet
// nobody else's.
#pragma once

#include <mpi.h>

#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "antcrew/crew/transfer.hpp"

namespace antcrew::internal {

enum Tag : int { order_tag = 1, block_tag, reply_tag, result_tag, ask_tag, grant_tag, clock_tag, edge_tag };

// Throws Error (ranks.mpi) with MPI's own words where the call failed.
void checked(int result, const char* call);

// Between two looks for a message: none for a while, then sleeps of a 50th of what was waited so far, 1 ms at most, and
// 5 ms once a second has passed. So a rank that has nothing to do takes at most some 2 % of a processor, and news is
// late by as little.
class Wait {
 public:
  static constexpr std::int64_t usual_look_ns = 1'000'000;
  // While data flows, which MPI moves on only while it is called.
  static constexpr std::int64_t data_look_ns = 100'000'000;

  // until_ns: when it has been too long; 0 = never. crowded: another rank needs this processor.
  explicit Wait(bool crowded, std::int64_t until_ns = 0, std::int64_t look_ns = usual_look_ns) noexcept
      : crowded_(crowded), until_ns_(until_ns), look_ns_(look_ns) {}
  // False when it has been too long.
  bool go_on() noexcept;

 private:
  bool crowded_;
  std::int64_t until_ns_;
  std::int64_t look_ns_;
  std::int64_t begun_ns_ = 0;
  int looks_ = 0;
};

// Thrown where a wait was too long.
struct TooLong {};

class Link {
 public:
  // Collective.
  explicit Link(MPI_Comm communicator);
  ~Link();
  Link(const Link&) = delete;
  Link& operator=(const Link&) = delete;

  int rank() const noexcept { return rank_; }
  int ranks() const noexcept { return ranks_; }
  MPI_Comm communicator() const noexcept { return communicator_; }
  bool crowded = false;
  std::int64_t until_ns = 0;  // of all waits; 0 = none

  // A short message, no longer than what MPI sends at once.
  void send(int to, int tag, const void* data, std::size_t bytes);
  void receive(int from, int tag, void* data, std::size_t bytes);
  // Whether one has come from somebody; who.
  std::optional<int> somebody_sent(int tag);

  // A block of any length, in parts. begin: its memory must stay until the requests have been waited for.
  void begin_block(int to, int tag, const void* data, std::size_t bytes, std::vector<MPI_Request>& under_way);
  // Throws TooLong. whose: the first of them are messages of these ranks, for the log.
  void wait_for(std::vector<MPI_Request>& under_way, std::span<const int> whose = {});
  // The next part that comes, which has so many bytes.
  struct Part {
    MPI_Message message;
    std::size_t bytes;
  };
  Part next_part(int from, int tag);
  void take(Part part, void* to);

  // Ranks that get from this one what rank 0 tells all of them: a tree in which each passes it on
  // to eight, so that few ranks hear it at once, and a thousand in four steps.
  std::span<const int> below() const noexcept { return below_; }
  int above() const noexcept { return (rank_ - 1) / most_below; }

  // To each rank, since the last reset. Adding up costs no more than the call of MPI hides.
  struct Sent {
    std::uint64_t bytes = 0;
    std::uint64_t messages = 0;
    std::uint64_t edge_bytes = 0;  // of those
  };
  const std::vector<Sent>& sent() const noexcept { return sent_; }
  void reset_sent() { sent_.assign(static_cast<std::size_t>(ranks_), {}); }
  void note_sent(int to, std::size_t bytes) noexcept {
    Sent& all = sent_[static_cast<std::size_t>(to)];
    all.bytes += bytes;
    ++all.messages;
  }

  void note_edge(int to, std::size_t bytes) noexcept {
    note_sent(to, bytes);
    sent_[static_cast<std::size_t>(to)].edge_bytes += bytes;
  }

  // Leaves MPI's resources alone: others do not answer any more.
  void abandon() noexcept { communicator_ = MPI_COMM_NULL; }

  static constexpr int most_below = 8;
  static constexpr std::size_t part_bytes = std::size_t{4} << 20;

 private:
  MPI_Comm communicator_ = MPI_COMM_NULL;
  int rank_ = 0;
  int ranks_ = 1;
  std::vector<int> below_;
  std::vector<Sent> sent_;
};

// Blocks that come in parts, and are passed on to other ranks on the way. What is read need not be cut as it was sent.
class Incoming final : public BlockSource {
 public:
  // here: what came in the letter itself, before all else. left: bytes that come by themselves.
  Incoming(Link& link, int from, int tag, std::span<const char> here, std::size_t left, std::span<const int> pass_on)
      : link_(link), from_(from), tag_(tag), here_(here), left_(left), pass_on_(pass_on) {}

  void read(void* to, std::size_t bytes) override;
  std::shared_ptr<CommonMemory> common(std::uint64_t serial, std::size_t bytes) override;
  // Takes in what nobody will read, so that the next message is found.
  void drain();
  // Spent so far on what came by itself.
  std::int64_t took_ns() const noexcept { return took_ns_; }

 private:
  void pass_on(const void* data, std::size_t bytes);

  Link& link_;
  int from_;
  int tag_;
  std::span<const char> here_;
  std::size_t left_;
  std::span<const int> pass_on_;
  std::vector<char> part_;     // one that was longer than what was read
  std::size_t part_read_ = 0;  // of it
  std::int64_t took_ns_ = 0;
  std::vector<MPI_Request> under_way_;
};

}  // namespace antcrew::internal
