// When a loop is to end early: because a worker threw, or because its caller was asked to stop.
//
//   std::stop_source source;
//   crew.each(n, body, {.split = Split::chunks(64), .stop = source.get_token()});
//
// Loops take an AnyStopToken. A std::stop_token converts to one, and so does any copyable type with stop_requested()
// and stop_possible(); this header does not include <stop_token>, which takes long to compile.
#pragma once

#include <atomic>
#include <cstddef>
#include <new>
#include <type_traits>

namespace antcrew {

// A copy of a stop token, whatever its type. The default one can never be asked to stop. Any thread may ask it.
class AnyStopToken {
 public:
  constexpr AnyStopToken() noexcept = default;
  template <class Token>
  requires(!std::is_same_v<Token, AnyStopToken> && requires(const Token& token) {
    static_cast<bool>(token.stop_requested());
    static_cast<bool>(token.stop_possible());
  }) AnyStopToken(const Token& token)
  noexcept {
    static_assert(sizeof(Token) <= room && alignof(Token) <= alignof(void*), "a stop token is a pointer or two");
    static_assert(std::is_nothrow_copy_constructible_v<Token>, "copying a stop token must not throw");
    if (!token.stop_possible()) return;
    copied<Token>(token_, &token);
    way_ = &way_of<Token>;
  }
  AnyStopToken(const AnyStopToken& other) noexcept { take(other); }
  AnyStopToken& operator=(const AnyStopToken& other) noexcept {
    if (this == &other) return *this;
    drop();
    take(other);
    return *this;
  }
  constexpr ~AnyStopToken() { drop(); }

  bool stop_possible() const noexcept { return way_ != nullptr; }
  bool stop_requested() const noexcept { return way_ != nullptr && way_->requested(token_); }

 private:
  static constexpr std::size_t room = 2 * sizeof(void*);
  struct Way {
    bool (*requested)(const void* token);
    void (*copy)(void* to, const void* from) noexcept;
    void (*destroy)(void* token) noexcept;
  };
  template <class Token>
  static void copied(void* to, const void* from) noexcept {
    ::new (to) Token(*static_cast<const Token*>(from));
  }
  template <class Token>
  static constexpr Way way_of{
      [](const void* token) -> bool { return static_cast<const Token*>(token)->stop_requested(); }, &copied<Token>,
      [](void* token) noexcept { static_cast<Token*>(token)->~Token(); }};

  void take(const AnyStopToken& other) noexcept {
    way_ = other.way_;
    if (way_ != nullptr) way_->copy(token_, other.token_);
  }
  constexpr void drop() noexcept {
    if (way_ != nullptr) way_->destroy(token_);
  }

  const Way* way_ = nullptr;  // null: nobody can ask
  alignas(void*) unsigned char token_[room] = {};
};

namespace internal {

inline constinit const AnyStopToken no_stop{};
inline constinit const std::atomic<bool> never_raised{false};

// What a loop looks at between pieces. Refers to both parts, which must outlive it.
class Enough {
 public:
  constexpr explicit Enough(const std::atomic<bool>& failed) noexcept : failed_(&failed), stop_(nullptr) {}
  Enough(const std::atomic<bool>& failed, const AnyStopToken& stop) noexcept
      : Enough(failed, stop.stop_possible() ? &stop : nullptr) {}
  constexpr Enough(const std::atomic<bool>& failed, const AnyStopToken* stop) noexcept
      : failed_(&failed), stop_(stop) {}  // null: nobody can ask

  bool operator()() const noexcept {
    return failed_->load(std::memory_order_relaxed) || (stop_ != nullptr && stop_->stop_requested());
  }
  const std::atomic<bool>& failed() const noexcept { return *failed_; }
  bool may_be_asked() const noexcept { return stop_ != nullptr; }
  // Of a loop that one worker does alone: when a piece throws, it ends by that.
  Enough of_one_worker() const noexcept { return {never_raised, stop_}; }
  // Nothing can cut the loop short.
  constexpr bool never() const noexcept { return failed_ == &never_raised && stop_ == nullptr; }

 private:
  const std::atomic<bool>* failed_;
  const AnyStopToken* stop_;
};

inline constinit const Enough never_enough{never_raised};

}  // namespace internal
}  // namespace antcrew
