#include "antcrew/crew/internal/processes/parcel.hpp"

#include <cstring>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

void BlocksInMemory::read(void* to, std::size_t bytes) {
  if (bytes > left_) refuse_short_value();
  if (bytes > 0) std::memcpy(to, at_, bytes);
  at_ += bytes;
  left_ -= bytes;
}

std::shared_ptr<CommonMemory> BlocksInMemory::common(std::uint64_t, std::size_t) {
  refuse_common_result();
}

void refuse_common_result() {
  could_not_run("crew.transfer", "a result from another process", "it is a CommonArray made there",
                "make the array in the calling process and let the workers fill it");
}

void take_from_memory(const char* at, std::size_t bytes, Sink& sink) {
  ParcelHead head;
  BlocksInMemory all(at, bytes);
  all.read(&head, sizeof head);
  Parcel parcel;
  parcel.ranges.resize(head.ranges);
  all.read(parcel.ranges.data(), head.ranges * sizeof(Range));
  parcel.small.resize(head.small_bytes);
  all.read(parcel.small.data(), head.small_bytes);
  parcel.large = &all;
  sink.take(parcel);
}

}  // namespace antcrew::internal
