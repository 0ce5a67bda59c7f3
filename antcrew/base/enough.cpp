#include "antcrew/base/enough.hpp"

namespace antcrew::internal {

StopFlag::StopFlag(const std::stop_token& token) : callback_(token, Raise{flag_}) {}
StopFlag::~StopFlag() = default;

}  // namespace antcrew::internal
