#include "antcrew/machine/topology.hpp"

#include <hwloc.h>

#include <algorithm>
#include <memory>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/processors.hpp"

namespace antcrew::machine_layer {
namespace {

struct Destroy {
  void operator()(hwloc_topology_t t) const { hwloc_topology_destroy(t); }
};
using Handle = std::unique_ptr<hwloc_topology, Destroy>;

Handle load() {
  hwloc_topology_t raw = nullptr;
  if (hwloc_topology_init(&raw) != 0) {
    could_not_run("machine.topology", "topology", "the system's topology cannot be read", "check that /sys is mounted");
  }
  Handle handle(raw);
  // Where the system refuses to tell a thread's processors, hwloc would ask for them for ever: it is not to bind then.
  if (internal::own_processors().empty()) hwloc_topology_set_flags(raw, HWLOC_TOPOLOGY_FLAG_DONT_CHANGE_BINDING);
  if (hwloc_topology_load(raw) != 0) {
    could_not_run("machine.topology", "topology", "the system's topology cannot be read", "check that /sys is mounted");
  }
  return handle;
}

int count(hwloc_topology_t t, hwloc_obj_type_t type) {
  return std::max(1, hwloc_get_nbobjs_by_type(t, type));
}

std::vector<Cache> caches_of(hwloc_topology_t t) {
  constexpr hwloc_obj_type_t types[] = {HWLOC_OBJ_L1CACHE, HWLOC_OBJ_L2CACHE, HWLOC_OBJ_L3CACHE, HWLOC_OBJ_L4CACHE,
                                        HWLOC_OBJ_L5CACHE};
  std::vector<Cache> caches;
  for (const hwloc_obj_type_t type : types) {
    const hwloc_obj_t first = hwloc_get_obj_by_type(t, type, 0);
    if (first == nullptr || first->attr == nullptr) continue;
    const auto& cache = first->attr->cache;
    caches.push_back({static_cast<int>(cache.depth), cache.size, hwloc_get_nbobjs_by_type(t, type),
                      static_cast<int>(cache.linesize)});
  }
  return caches;
}

std::vector<ProcessorKind> kinds_of(hwloc_topology_t t) {
  std::vector<ProcessorKind> kinds;
  const int count = hwloc_cpukinds_get_nr(t, 0);
  if (count < 2) return kinds;
  hwloc_bitmap_t set = hwloc_bitmap_alloc();
  for (int kind = 0; kind < count; ++kind) {
    int rank = -1;
    if (hwloc_cpukinds_get_info(t, static_cast<unsigned>(kind), set, &rank, nullptr, nullptr, 0) != 0) continue;
    ProcessorKind found{rank < 0 ? kind : rank, {}};
    for (int one = hwloc_bitmap_first(set); one >= 0; one = hwloc_bitmap_next(set, one))
      found.processors.push_back(one);
    kinds.push_back(std::move(found));
  }
  hwloc_bitmap_free(set);
  return kinds;
}

Topology read(hwloc_topology_t t) {
  return {count(t, HWLOC_OBJ_PU),
          count(t, HWLOC_OBJ_CORE),
          count(t, HWLOC_OBJ_PACKAGE),
          count(t, HWLOC_OBJ_NUMANODE),
          caches_of(t),
          kinds_of(t)};
}

// Depth-first over the tree gives neighbours first.
std::vector<int> neighbours_first(hwloc_topology_t t, hwloc_const_cpuset_t allowed) {
  std::vector<int> order;
  for (hwloc_obj_t pu = nullptr; (pu = hwloc_get_next_obj_by_type(t, HWLOC_OBJ_PU, pu)) != nullptr;) {
    if (hwloc_bitmap_isset(allowed, pu->os_index)) order.push_back(static_cast<int>(pu->os_index));
  }
  return order;
}

// Takes one processor of each child in turn, at every level: the first k of the result lie as far apart as k can.
std::vector<int> far_apart_first(hwloc_obj_t at, hwloc_const_cpuset_t allowed) {
  if (at->type == HWLOC_OBJ_PU) {
    return hwloc_bitmap_isset(allowed, at->os_index) ? std::vector<int>{static_cast<int>(at->os_index)}
                                                     : std::vector<int>{};
  }
  std::vector<std::vector<int>> below;
  std::size_t total = 0;
  for (unsigned i = 0; i < at->arity; ++i) {
    below.push_back(far_apart_first(at->children[i], allowed));
    total += below.back().size();
  }
  std::vector<int> order;
  for (std::size_t k = 0; order.size() < total; ++k) {
    for (const auto& child : below) {
      if (k < child.size()) order.push_back(child[k]);
    }
  }
  return order;
}

}  // namespace

const Topology& topology() {
  static const Topology read_once = read(load().get());
  return read_once;
}

std::vector<int> processor_order(Nearness nearness) {
  static const Handle handle = load();
  const internal::ProcessorSet own = internal::own_processors();
  hwloc_cpuset_t allowed = hwloc_bitmap_alloc();
  for (int processor = 0; processor < internal::ProcessorSet::most; ++processor) {
    if (own.has(processor)) hwloc_bitmap_set(allowed, static_cast<unsigned>(processor));
  }
  if (own.empty()) hwloc_bitmap_fill(allowed);
  auto order = nearness == Nearness::near ? neighbours_first(handle.get(), allowed)
                                          : far_apart_first(hwloc_get_root_obj(handle.get()), allowed);
  hwloc_bitmap_free(allowed);
  return order;
}

namespace {

// By processor: the first level, from the outside in, that has several of a kind.
std::vector<int> find_neighbourhoods() {
  const Handle handle = load();
  hwloc_topology_t t = handle.get();
  std::vector<int> of(static_cast<std::size_t>(std::max(1, hwloc_get_nbobjs_by_type(t, HWLOC_OBJ_PU))), 0);
  for (const hwloc_obj_type_t type : {HWLOC_OBJ_L3CACHE, HWLOC_OBJ_NUMANODE, HWLOC_OBJ_PACKAGE}) {
    const int kinds = hwloc_get_nbobjs_by_type(t, type);
    if (kinds < 2) continue;
    for (int k = 0; k < kinds; ++k) {
      const hwloc_obj_t object = hwloc_get_obj_by_type(t, type, static_cast<unsigned>(k));
      for (int cpu = hwloc_bitmap_first(object->cpuset); cpu >= 0; cpu = hwloc_bitmap_next(object->cpuset, cpu)) {
        if (static_cast<std::size_t>(cpu) >= of.size()) of.resize(static_cast<std::size_t>(cpu) + 1, 0);
        of[static_cast<std::size_t>(cpu)] = k;
      }
    }
    break;
  }
  return of;
}

const std::vector<int>& all_neighbourhoods() {
  static const std::vector<int> found = find_neighbourhoods();
  return found;
}

}  // namespace

int neighbourhood_of(int processor) {
  const auto& of = all_neighbourhoods();
  return processor >= 0 && static_cast<std::size_t>(processor) < of.size() ? of[static_cast<std::size_t>(processor)]
                                                                           : 0;
}

int neighbourhoods() {
  const auto& of = all_neighbourhoods();
  return 1 + *std::max_element(of.begin(), of.end());
}

}  // namespace antcrew::machine_layer
