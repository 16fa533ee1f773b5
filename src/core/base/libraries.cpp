// The bodies of two libraries that Debian ships as headers and as shared objects only, compiled once here and linked
// statically like the others: format.cc of {fmt} 9 and the implementation switch of toml++.
#include <fmt/format-inl.h>

#define TOML_ASSERT(expression) static_cast<void>(0)  // as in the shared object: bad input ends in an error
#define TOML_IMPLEMENTATION
#include <toml++/toml.h>

FMT_BEGIN_NAMESPACE
namespace detail {

template auto dragonbox::to_decimal(float) noexcept -> dragonbox::decimal_fp<float>;
template auto dragonbox::to_decimal(double) noexcept -> dragonbox::decimal_fp<double>;
template auto locale_ref::get<std::locale>() const -> std::locale;
template auto thousands_sep_impl(locale_ref) -> thousands_sep_result<char>;
template auto decimal_point_impl(locale_ref) -> char;
template void buffer<char>::append(const char*, const char*);
template void vformat_to(buffer<char>&, string_view, basic_format_args<FMT_BUFFER_CONTEXT(type_identity_t<char>)>,
                         locale_ref);

}  // namespace detail
FMT_END_NAMESPACE
