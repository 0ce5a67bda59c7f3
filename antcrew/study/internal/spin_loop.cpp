#include "antcrew/study/internal/spin_loop.hpp"

#include <cstdint>
#include <cstring>
#include <optional>

namespace antcrew::internal {
namespace {

constexpr std::size_t longest_loop = 32;  // bytes

// What a stretch of code reads and sets, as one bit a register.
struct Uses {
  std::uint32_t set = 0;
  std::uint32_t addressed = 0;  // registers that addresses are made of
  bool reads_memory = false;
};

struct Instruction {
  std::size_t length = 0;
  bool jumps = false;
  std::ptrdiff_t target = 0;  // from the first byte of the code
};

// One instruction of those that a waiting loop is made of. Intel, "64 and IA-32 Architectures Software Developer's
// Manual", volume 2, chapter 2 and appendix A.
class Decoder {
 public:
  explicit Decoder(std::span<const unsigned char> code) : code_(code) {}

  std::optional<Instruction> at(std::size_t first, Uses& uses) {
    at_ = first;
    rex_ = 0;
    short_operand_ = false;
    unsigned char op = next();
    while (op == 0x66 || op == 0xf3) {  // a shorter operand; pause is f3 90
      short_operand_ = short_operand_ || op == 0x66;
      op = next();
    }
    if ((op & 0xf0) == 0x40) {
      rex_ = op;
      op = next();
    }
    Instruction one;
    if (!(op == 0x0f ? two_bytes(next(), uses, one) : one_byte(op, uses, one)) || at_ > code_.size()) return {};
    one.length = at_ - first;
    return one;
  }

 private:
  unsigned char next() { return at_ < code_.size() ? code_[at_++] : (++at_, static_cast<unsigned char>(0)); }
  void skip(std::size_t bytes) { at_ += bytes; }
  std::size_t immediate() const { return short_operand_ ? 2 : 4; }

  void jump(std::size_t bytes, Instruction& one) {
    std::int32_t by = 0;
    if (bytes == 1) {
      by = static_cast<signed char>(next());
    } else {
      unsigned char raw[4] = {next(), next(), next(), next()};
      std::memcpy(&by, raw, sizeof by);
    }
    one.jumps = true;
    one.target = static_cast<std::ptrdiff_t>(at_) + by;
  }

  // A register, and a register or memory. Which number the first one has; whether the second is memory.
  struct Operands {
    unsigned reg = 0;
    unsigned other = 0;  // where it is no memory
    bool memory = false;
  };
  Operands operands(Uses& uses) {
    const unsigned char modrm = next();
    const unsigned mode = modrm >> 6;
    Operands found{((modrm >> 3) & 7u) | ((rex_ & 4u) << 1), (modrm & 7u) | ((rex_ & 1u) << 3), mode != 3};
    if (!found.memory) return found;
    uses.reads_memory = true;
    unsigned base = modrm & 7u;
    bool no_base = mode == 0 && base == 5;  // relative to the next instruction
    if (base == 4) {
      const unsigned char sib = next();
      const unsigned index = ((sib >> 3) & 7u) | ((rex_ & 2u) << 2);
      if (index != 4) uses.addressed |= 1u << index;
      base = sib & 7u;
      no_base = mode == 0 && base == 5;
    }
    if (!no_base) uses.addressed |= 1u << (base | ((rex_ & 1u) << 3));
    skip(mode == 1 ? 1 : mode == 2 || no_base ? 4 : 0);
    return found;
  }

  bool one_byte(unsigned char op, Uses& uses, Instruction& one) {
    if ((op & 0xf0) == 0x70 || op == 0xeb) return jump(1, one), true;
    if (op == 0xe9) return jump(4, one), true;
    if (op == 0x90) return true;
    if (op == 0x3c || op == 0xa8) return skip(1), true;            // cmp, test with the first register
    if (op == 0x3d || op == 0xa9) return skip(immediate()), true;  // the same, longer
    if ((op & 0xf8) == 0xb8 && (rex_ & 8) == 0) {                  // mov of a number
      uses.set |= 1u << ((op & 7u) | ((rex_ & 1u) << 3));
      return skip(immediate()), true;
    }
    const bool compares = (op & 0xfc) == 0x38 || (op & 0xfe) == 0x84;
    const bool loads = (op & 0xfe) == 0x8a || op == 0x63;
    const bool clears = op == 0x31 || op == 0x33;
    const bool moves = (op & 0xfe) == 0x88;
    const bool exchanges = (op & 0xfe) == 0x86;
    if (compares || loads || clears || moves || exchanges) {
      const Operands its = operands(uses);
      if (loads || exchanges) uses.set |= 1u << its.reg;
      if (moves || clears) uses.set |= 1u << its.other;
      if (moves) return !its.memory;
      if (clears) return !its.memory && its.reg == its.other;
      return !exchanges || its.memory;
    }
    const bool with_number = op == 0x80 || op == 0x83 || op == 0x81;
    if (with_number || (op & 0xfe) == 0xf6) {
      const Operands its = operands(uses);
      skip(op == 0x81 || op == 0xf7 ? immediate() : 1);
      return (its.reg & 7u) == (with_number ? 7u : 0u);  // cmp; test
    }
    return false;
  }

  bool two_bytes(unsigned char op, Uses& uses, Instruction& one) {
    if ((op & 0xf0) == 0x80) return jump(4, one), true;
    if (op == 0x1f) return operands(uses), true;  // does nothing
    const bool extends = op == 0xb6 || op == 0xb7 || op == 0xbe || op == 0xbf;
    if (!extends) return false;
    uses.set |= 1u << operands(uses).reg;
    return true;
  }

  std::span<const unsigned char> code_;
  std::size_t at_ = 0;
  unsigned char rex_ = 0;
  bool short_operand_ = false;
};

// Of ARM, four bytes each: Arm, "Architecture Reference Manual for A-profile", section C4.1.
bool add_arm(std::uint32_t word, std::ptrdiff_t here, Uses& uses, Instruction& one) {
  one.length = 4;
  const auto jump = [&](unsigned low, unsigned bits) {
    const auto raw = static_cast<std::int32_t>((word >> low) << (32 - bits)) >> (32 - bits);
    one.jumps = true;
    one.target = here + 4 * static_cast<std::ptrdiff_t>(raw);
    return true;
  };
  if ((word & 0xff000010u) == 0x54000000u || (word & 0x7e000000u) == 0x34000000u) return jump(5, 19);
  if ((word & 0x7e000000u) == 0x36000000u) return jump(5, 14);
  if ((word & 0xfc000000u) == 0x14000000u) return jump(0, 26);
  if (word == 0xd503203fu || word == 0xd5033fdfu || word == 0xd503201fu || word == 0xd503205fu) return true;
  if ((word & 0x7f00001fu) == 0x7100001fu || (word & 0x7f20001fu) == 0x6b00001fu) return true;  // cmp
  const bool plain = (word & 0x3bc00000u) == 0x39400000u;      // ldr of a number's offset
  const bool acquiring = (word & 0x3fc00000u) == 0x08c00000u;  // ldar
  const bool weakly = (word & 0x3ffffc00u) == 0x38bfc000u;     // ldapr
  if ((!plain && !acquiring && !weakly) || (word & 0x04000000u) != 0) return false;
  uses.reads_memory = true;
  uses.set |= (word & 31u) == 31u ? 0u : 1u << (word & 31u);
  uses.addressed |= 1u << ((word >> 5) & 31u);
  return true;
}

// From `first` on: whether it jumps back there before anything that such a loop has not, and `at` lies in between.
template <class One>
bool waits_from(std::size_t first, std::size_t at, std::size_t size, One one) {
  Uses uses;
  for (std::size_t here = first; here < size && here < first + longest_loop;) {
    const std::optional<Instruction> next = one(here, uses);
    if (!next) return false;
    here += next->length;
    if (next->jumps && next->target == static_cast<std::ptrdiff_t>(first))
      return at < here && uses.reads_memory && (uses.set & uses.addressed) == 0;
  }
  return false;
}

}  // namespace

bool only_waits_x86_64(std::span<const unsigned char> code, std::size_t at) {
  Decoder decoder(code);
  for (std::size_t first = at < longest_loop ? 0 : at - longest_loop; first <= at; ++first) {
    if (waits_from(first, at, code.size(), [&](std::size_t here, Uses& uses) { return decoder.at(here, uses); }))
      return true;
  }
  return false;
}

bool only_waits_aarch64(std::span<const unsigned char> code, std::size_t at) {
  const auto one = [&](std::size_t here, Uses& uses) -> std::optional<Instruction> {
    if (here + 4 > code.size()) return {};
    std::uint32_t word = 0;
    std::memcpy(&word, code.data() + here, sizeof word);
    Instruction found;
    if (!add_arm(word, static_cast<std::ptrdiff_t>(here), uses, found)) return {};
    return found;
  };
  for (std::size_t first = at % 4; first <= at; first += 4) {
    if (waits_from(first, at, code.size(), one)) return true;
  }
  return false;
}

bool only_waits(std::span<const unsigned char> code, std::size_t at) {
#if defined(__x86_64__)
  return only_waits_x86_64(code, at);
#elif defined(__aarch64__)
  return only_waits_aarch64(code, at);
#else
  return code.empty() && at > 0;
#endif
}

}  // namespace antcrew::internal
