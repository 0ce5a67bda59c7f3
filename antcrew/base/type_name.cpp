#include "antcrew/base/type_name.hpp"

#include <cxxabi.h>

#include <cstdlib>
#include <exception>

namespace antcrew::base_layer {

std::string type_name(const std::type_info& type) {
  return readable_name(type.name());
}

std::string readable_name(const char* mangled) {
  int status = 0;
  char* readable = abi::__cxa_demangle(mangled, nullptr, nullptr, &status);
  std::string name = status == 0 ? readable : mangled;
  std::free(readable);
  return name;
}

Thrown current_thrown() {
  try {
    throw;
  } catch (const std::exception& error) {
    const char* what = error.what();
    return {type_name(typeid(error)), what == nullptr ? "" : what};
  } catch (...) {
    const std::type_info* type = abi::__cxa_current_exception_type();
    return {type == nullptr ? "something unknown" : type_name(*type), ""};
  }
}

}  // namespace antcrew::base_layer
