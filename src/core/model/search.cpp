#include "model/search.h"

#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <cstring>
#include <functional>
#include <map>

#include "base/error.h"
#include "base/text.h"

namespace hambrel {

namespace {

/// The parts of one entry of the search text.
struct Entry {
  std::string_view name, summary, provided, description;
};

#if defined(__x86_64__)
#define HAMBREL_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define HAMBREL_WIDE
#endif

/// The first place of `word` in `text` from `at` on, or npos. 32 places at a time are looked at for the first and the
/// last byte of the word together (W. Mula, "SIMD-friendly algorithms for substring searching", 2016).
HAMBREL_WIDE std::size_t find_word(std::string_view text, std::string_view word, std::size_t at) {
  using Block = std::uint8_t __attribute__((vector_size(32)));
  constexpr std::size_t kWidth = sizeof(Block);
  if (word.size() > 1) {
    const Block first = Block{} + static_cast<std::uint8_t>(word.front()),
                last = Block{} + static_cast<std::uint8_t>(word.back());
    for (; at + kWidth + word.size() <= text.size(); at += kWidth) {
      Block a, b;
      std::memcpy(&a, text.data() + at, kWidth);
      std::memcpy(&b, text.data() + at + word.size() - 1, kWidth);
      const Block hit = reinterpret_cast<Block>((a == first) & (b == last));
      std::uint64_t parts[4];
      std::memcpy(parts, &hit, kWidth);
      if ((parts[0] | parts[1] | parts[2] | parts[3]) == 0) continue;
      for (std::size_t i = 0; i < kWidth; ++i)
        if (hit[i] != 0 && text.compare(at + i, word.size(), word) == 0) return at + i;
    }
  }
  return text.find(word, at);
}

class Word {
 public:
  Word(const std::string& text, bool regex) : text_(lower(text)) {
    glob_ = !regex && text.find_first_of("*?") != std::string::npos;
    if (!regex) return;
    RE2::Options options(RE2::Quiet);
    options.set_case_sensitive(false);
    options.set_posix_syntax(false);
    regex_ = std::make_unique<RE2>("(?m)" + text, options);
    if (!regex_->ok())
      throw Error(ErrorCode::Usage,
                  fmt::format("\"{}\" is not a regular expression: {}", printable(text), regex_->error()), {},
                  "leave --regex out to look for the word as it is");
  }

  std::size_t size() const { return regex_ || glob_ ? 0 : text_.size(); }

  /// Calls f(place) for places in the text where the word begins; all entries with the word are among them.
  void each_place(std::string_view text, const std::function<std::size_t(std::size_t)>& f) const {
    std::size_t at = 0;
    while (at < text.size()) {
      if (glob_) {
        at = f(at);
      } else if (regex_) {
        re2::StringPiece match;
        if (!regex_->Match({text.data(), text.size()}, at, text.size(), RE2::UNANCHORED, &match, 1)) return;
        at = f(static_cast<std::size_t>(match.data() - text.data()));
      } else {
        at = find_word(text, text_, at);
        if (at == std::string_view::npos) return;
        at = f(at);
      }
    }
  }

  std::optional<Found> find_in(const Entry& entry) const {
    if (glob_) {
      if (glob_match(text_, entry.name)) return Found::Name;
      for (const std::string_view one : split(entry.provided, '\n'))
        if (!one.empty() && glob_match(text_, one)) return Found::Provided;
      return std::nullopt;
    }
    if (!regex_ && entry.name == text_) return Found::Name;
    if (!regex_ && entry.name.starts_with(text_)) return Found::NameStart;
    if (is_in(entry.name)) return Found::NamePart;
    if (is_in(entry.summary)) return Found::Summary;
    if (is_in(entry.provided)) return Found::Provided;
    if (is_in(entry.description)) return Found::Description;
    return std::nullopt;
  }

 private:
  bool is_in(std::string_view text) const {
    if (regex_) return RE2::PartialMatch({text.data(), text.size()}, *regex_);
    return text.find(text_) != std::string_view::npos;
  }

  std::string text_;
  bool glob_ = false;
  std::unique_ptr<RE2> regex_;
};

}  // namespace

PackageId representative(const Universe& universe, NameId name) {
  const auto ids = universe.versions_of(name);
  for (const PackageId id : ids)
    if (universe.is_installed(id)) return id;
  for (const PackageId id : ids)
    if (universe.offered(id)) return id;
  return ids.front();
}

std::vector<SearchHit> search(const Universe& universe, const std::vector<std::string>& texts, bool regex) {
  std::vector<Word> words;
  for (const std::string& text : texts)
    if (!text.empty()) words.emplace_back(text, regex);
  if (words.empty()) return {};
  const Word& rarest =
      *std::max_element(words.begin(), words.end(), [](const Word& a, const Word& b) { return a.size() < b.size(); });
  std::map<NameId, Found> best;
  for (const Layer* layer : {&universe.base(), &universe.overlay()}) {
    const auto entries = layer->search.all();
    const auto characters = layer->search_text.all();
    const std::string_view text(characters.data(), characters.size());
    rarest.each_place(text, [&](std::size_t place) {
      const auto after = std::upper_bound(entries.begin(), entries.end(), place,
                                          [](std::size_t at, const auto& entry) { return at < entry.start; });
      const image::SearchRecord& one = *std::prev(after);
      std::string_view rest = text.substr(one.start, one.size);
      const auto take = [&](std::size_t size) {
        const std::string_view part = rest.substr(0, size);
        rest.remove_prefix(part.size());
        return part;
      };
      Entry entry;
      entry.name = take(one.name_size);
      entry.name.remove_suffix(1);
      entry.summary = take(one.summary_size);
      entry.provided = take(one.provided_size);
      entry.description = rest;
      Found worst = Found::Name;
      bool all = true;
      for (const Word& word : words) {
        const auto found = word.find_in(entry);
        all = all && found.has_value();
        if (found) worst = std::max(worst, *found);
      }
      if (all) {
        const NameId name = universe.name_id(static_cast<PackageId>(one.package));
        const auto [known, is_new] = best.emplace(name, worst);
        if (!is_new) known->second = std::min(known->second, worst);
      }
      return static_cast<std::size_t>(one.start + one.size);
    });
  }
  std::vector<SearchHit> hits;
  for (const auto& [name, found] : best)
    if (!universe.versions_of(name).empty()) hits.push_back({representative(universe, name), found});
  std::sort(hits.begin(), hits.end(), [&](const SearchHit& a, const SearchHit& b) {
    return a.found != b.found ? a.found < b.found : universe.name(a.id) < universe.name(b.id);
  });
  return hits;
}

}  // namespace hambrel
