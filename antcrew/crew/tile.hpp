// A rectangle of a loop over two dimensions: what `tiles` hands to its body.
//
//   crew.tiles(rows, columns, TileSize{32, 256}, [&](Tile tile) {
//     for (std::size_t r : tile.rows)
//       for (std::size_t c : tile.columns) out[r * columns + c] = smoothed(in, r, c);
//   });
//
// A tile of some tens of KiB stays in the cache of its worker. Every place of rows × columns is in one tile; those at
// the lower and right edge may be smaller. Of three dimensions likewise: TileSize3 and Tile3.
#pragma once

#include <cstddef>

#include "antcrew/base/range.hpp"

namespace antcrew {

struct Tile {
  Range rows;
  Range columns;
};

struct TileSize {
  std::size_t rows = 64;  // 0 counts as 1
  std::size_t columns = 64;
};

// Of a loop over three dimensions.
struct Tile3 {
  Range planes;
  Range rows;
  Range columns;
};

struct TileSize3 {
  std::size_t planes = 16;  // 0 counts as 1
  std::size_t rows = 16;
  std::size_t columns = 64;
};

namespace internal {

// Tiles are counted along the rows: neighbours by number share rows.
class Tiling {
 public:
  constexpr Tiling(std::size_t rows, std::size_t columns, TileSize size) noexcept
      : rows_(rows),
        columns_(columns),
        size_{size.rows == 0 ? 1 : size.rows, size.columns == 0 ? 1 : size.columns},
        across_(columns == 0 ? 0 : (columns - 1) / size_.columns + 1) {}

  constexpr std::size_t count() const noexcept { return rows_ == 0 ? 0 : ((rows_ - 1) / size_.rows + 1) * across_; }
  constexpr Tile at(std::size_t k) const noexcept {
    return {part(k / across_, size_.rows, rows_), part(k % across_, size_.columns, columns_)};
  }
  static constexpr Range part(std::size_t k, std::size_t size, std::size_t all) noexcept {
    const std::size_t first = k * size;
    return {first, all - first < size ? all : first + size};
  }

 private:
  std::size_t rows_;
  std::size_t columns_;
  TileSize size_;
  std::size_t across_;
};

// Plane by plane, or layer of planes by layer.
class Tiling3 {
 public:
  constexpr Tiling3(std::size_t planes, std::size_t rows, std::size_t columns, TileSize3 size) noexcept
      : planes_(planes), size_(size.planes == 0 ? 1 : size.planes), layer_(rows, columns, {size.rows, size.columns}) {}
  constexpr std::size_t count() const noexcept {
    return planes_ == 0 ? 0 : ((planes_ - 1) / size_ + 1) * layer_.count();
  }
  constexpr Tile3 at(std::size_t k) const noexcept {
    const Tile tile = layer_.at(k % layer_.count());
    return {Tiling::part(k / layer_.count(), size_, planes_), tile.rows, tile.columns};
  }

 private:
  std::size_t planes_;
  std::size_t size_;
  Tiling layer_;
};

}  // namespace internal
}  // namespace antcrew
