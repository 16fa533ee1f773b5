#include "trust/canonical.h"

#include "base/error.h"
#include "base/json.h"

namespace hambrel::trust {

namespace {

void write_text(std::string& out, const std::string& text) {
  out += '"';
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  out += '"';
}

void write(std::string& out, const Json& value, const std::string& where) {
  switch (value.type()) {
    case Json::value_t::null: out += "null"; return;
    case Json::value_t::boolean: out += value.get<bool>() ? "true" : "false"; return;
    case Json::value_t::number_integer: out += std::to_string(value.get<std::int64_t>()); return;
    case Json::value_t::number_unsigned: out += std::to_string(value.get<std::uint64_t>()); return;
    case Json::value_t::string: write_text(out, value.get_ref<const std::string&>()); return;
    case Json::value_t::array: {
      out += '[';
      for (std::size_t i = 0; i < value.size(); ++i) {
        if (i > 0) out += ',';
        write(out, value[i], where);
      }
      out += ']';
      return;
    }
    case Json::value_t::object: {
      out += '{';
      bool first = true;
      for (const auto& [key, member] : value.items()) {  // in the order of their bytes
        if (!first) out += ',';
        first = false;
        write_text(out, key);
        out += ':';
        write(out, member, where);
      }
      out += '}';
      return;
    }
    default: throw Error(ErrorCode::Invalid, "has a number with a fraction, which cannot be signed", where);
  }
}

}  // namespace

std::string canonical_form(const Json& value, const std::string& where) {
  std::string out;
  write(out, value, where);
  return out;
}

}  // namespace hambrel::trust
