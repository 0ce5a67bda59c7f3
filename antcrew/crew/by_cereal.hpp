// Sends types that cereal can serialise: include this, and say so for each of them.
//
//   template <> inline constexpr bool antcrew::travels_by_cereal<Buoy> = true;
//
// The only header of the core that needs another library (cereal's headers).
#pragma once

#include <algorithm>
#include <cereal/archives/binary.hpp>
#include <sstream>
#include <string>

#include "antcrew/crew/transfer.hpp"

namespace antcrew::internal {

template <class T>
void pack_by_cereal(Packer& to, const T& value) {
  std::ostringstream bytes;
  cereal::BinaryOutputArchive archive(bytes);
  archive(value);
  const std::string text = std::move(bytes).str();
  to.put(text.size());
  // Piece by piece: a block must stay where it is, and the text does not.
  constexpr std::size_t piece = Packer::large_from - 1;
  for (std::size_t at = 0; at < text.size(); at += piece) {
    to.block(text.data() + at, std::min(piece, text.size() - at));
  }
}

template <class T>
void unpack_by_cereal(Unpacker& from, T& value) {
  std::size_t size = 0;
  from.get(size);
  std::string text(size, '\0');
  constexpr std::size_t piece = Packer::large_from - 1;
  for (std::size_t at = 0; at < size; at += piece) from.block(text.data() + at, std::min(piece, size - at));
  std::istringstream bytes(std::move(text));
  cereal::BinaryInputArchive archive(bytes);
  archive(value);
}

}  // namespace antcrew::internal
