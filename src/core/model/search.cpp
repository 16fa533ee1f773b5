#include "model/search.h"

#if defined(__x86_64__)
#include <immintrin.h>
#endif
#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <atomic>
#include <bit>
#include <cstring>
#include <functional>
#include <future>
#include <map>
#include <thread>

#include "base/error.h"
#include "base/text.h"

namespace hambrel {

namespace {

/// The parts of one entry of the search text.
struct Entry {
  std::string_view name, summary, provided, description;
};

/// A word to be found in long texts. Where the machine can, 64 places at a time are looked at for two bytes of the word
/// together (W. Mula, "SIMD-friendly algorithms for substring searching", 2016), those that are rare in texts.
class Needle {
 public:
  explicit Needle(std::string_view word) : word_(word) {
    constexpr std::string_view kOftenLast = "qzjxkvwybgfpmuhdclrsntoiae \n";  // roughly as English and German have it
    const auto rarity = [&](std::size_t i) { return kOftenLast.find(word[i]) + 1; };  // npos: not a letter
    for (std::size_t i = 1; i < word.size(); ++i)
      if (rarity(i) < rarity(first_)) first_ = i;
    second_ = first_ == 0 ? word.size() - 1 : 0;
    for (std::size_t i = 0; i < word.size(); ++i)
      if (i != first_ && rarity(i) < rarity(second_)) second_ = i;
  }

  /// The first place of the word in `text` from `at` on, or npos.
  std::size_t find(std::string_view text, std::size_t at) const {
#if defined(__x86_64__)
    static const bool wide = __builtin_cpu_supports("avx2") != 0;
    if (wide && word_.size() > 1) return find_wide(text, at);
#endif
    return text.find(word_, at);
  }

 private:
#if defined(__x86_64__)
  __attribute__((target("avx2"))) std::size_t find_wide(std::string_view text, std::size_t at) const {
    constexpr std::size_t kWidth = sizeof(__m256i);
    const __m256i a = _mm256_set1_epi8(word_[first_]), b = _mm256_set1_epi8(word_[second_]);
    for (; at + 2 * kWidth + word_.size() <= text.size(); at += 2 * kWidth) {
      __m256i hits[2];
      for (std::size_t i = 0; i < 2; ++i) {
        const char* const from = text.data() + at + i * kWidth;
        __m256i x, y;
        std::memcpy(&x, from + first_, kWidth);
        std::memcpy(&y, from + second_, kWidth);
        hits[i] = _mm256_and_si256(_mm256_cmpeq_epi8(x, a), _mm256_cmpeq_epi8(y, b));
      }
      const __m256i any = _mm256_or_si256(hits[0], hits[1]);
      if (_mm256_testz_si256(any, any) != 0) continue;
      std::uint64_t places = static_cast<std::uint32_t>(_mm256_movemask_epi8(hits[0])) |
                             static_cast<std::uint64_t>(static_cast<std::uint32_t>(_mm256_movemask_epi8(hits[1])))
                                 << kWidth;
      for (; places != 0; places &= places - 1) {
        const std::size_t place = at + static_cast<std::size_t>(std::countr_zero(places));
        if (std::memcmp(text.data() + place, word_.data(), word_.size()) == 0) return place;
      }
    }
    return text.find(word_, at);
  }
#endif

  std::string word_;
  std::size_t first_ = 0, second_ = 0;  // two places in the word
};

class Word {
 public:
  Word(const std::string& text, bool regex) : text_(lower(text)), needle_(text_) {
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
        at = needle_.find(text, at);
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
  Needle needle_;
  bool glob_ = false;
  std::unique_ptr<RE2> regex_;
};

using Hits = std::vector<std::pair<std::uint32_t, Found>>;  // by package

/// The hits among entries [first, last) of a layer's search text.
Hits search_entries(const Layer& layer, std::size_t first, std::size_t last, const std::vector<Word>& words,
                    const Word& rarest) {
  Hits hits;
  const auto entries = layer.search.slice(first, last - first);
  if (entries.empty()) return hits;
  const std::size_t start = entries.front().start, size = entries.back().start + entries.back().size - start;
  const std::string_view text(layer.search_text.slice(start, size).data(), size);
  rarest.each_place(text, [&](std::size_t place) {
    const auto after = std::upper_bound(entries.begin(), entries.end(), start + place,
                                        [](std::size_t at, const auto& entry) { return at < entry.start; });
    const image::SearchRecord& one = *std::prev(after);
    std::string_view rest = text.substr(one.start - start, one.size);
    const auto take = [&](std::size_t length) {
      const std::string_view part = rest.substr(0, length);
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
    if (all) hits.emplace_back(one.package, worst);
    return static_cast<std::size_t>(one.start + one.size - start);
  });
  return hits;
}

/// On all processors, in portions small enough that what was checked is still in the cache when it is searched.
Hits search_layer(const Layer& layer, const std::vector<Word>& words, const Word& rarest) {
  constexpr std::size_t kPortion = 512;  // entries, some 100 KiB
  const std::size_t count = layer.search.size(), portions = (count + kPortion - 1) / kPortion;
  std::atomic<std::size_t> next = 0;
  const auto work = [&] {
    Hits hits;
    for (std::size_t portion = next++; portion < portions; portion = next++) {
      const std::size_t first = portion * kPortion;
      const Hits some = search_entries(layer, first, std::min(first + kPortion, count), words, rarest);
      hits.insert(hits.end(), some.begin(), some.end());
    }
    return hits;
  };
  const std::size_t workers = std::min<std::size_t>(portions / 8, std::max(1U, std::thread::hardware_concurrency()));
  std::vector<std::future<Hits>> others;
  for (std::size_t i = 1; i < workers; ++i) others.push_back(std::async(std::launch::async, work));
  Hits hits = work();
  for (auto& other : others) {
    const Hits some = other.get();
    hits.insert(hits.end(), some.begin(), some.end());
  }
  return hits;
}

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
  for (const Layer* layer : {&universe.base(), &universe.overlay()})
    for (const auto& [package, found] : search_layer(*layer, words, rarest)) {
      const auto [known, is_new] = best.emplace(universe.name_id(static_cast<PackageId>(package)), found);
      if (!is_new) known->second = std::min(known->second, found);
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
