// Counts calls of operator new in this test program.
#pragma once

#include <cstddef>

namespace test {

std::size_t allocations() noexcept;

}
