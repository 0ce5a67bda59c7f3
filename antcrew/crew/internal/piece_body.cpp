#include "antcrew/crew/internal/piece_body.hpp"

#include "antcrew/crew/internal/fill.hpp"

namespace antcrew::internal {

void PieceBody::in_blocks(Range range, const Enough& enough) const {
  internal::in_blocks(range, enough, [&](Range block) { call(self, block, enough); });
}

}  // namespace antcrew::internal
