#include "model/search.h"

#if defined(__x86_64__)
#include <immintrin.h>
#endif
#include <fmt/format.h>
#include <re2/re2.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <cstring>
#include <future>
#include <optional>
#include <thread>

#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "model/search_index.h"

namespace hambrel {

namespace {

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

constexpr std::uint8_t kNowhere = UINT8_MAX;
using Places = std::vector<std::uint8_t>;  // by package of a layer: where a word was found, or kNowhere

class Word {
 public:
  Word(const std::string& text, bool regex) : text_(lower(text)), piece_(longest_piece(text_)), needle_(piece_) {
    glob_ = !regex && text.find_first_of("*?") != std::string::npos;
    if (!regex) return;
    RE2::Options options(RE2::Quiet);
    options.set_case_sensitive(false);
    options.set_posix_syntax(false);
    regex_ = std::make_unique<RE2>("(?m)" + text, options);
    if (!regex_->ok())
      throw Error(ErrorCode::Usage,
                  fmt::format("\"{}\" is not a regular expression: {}", printable(text), regex_->error()), {},
                  "leave out --regex to search for the text itself");
  }

  /// Where the packages of a layer, numbered from `first` on, have this word.
  Places find(const Universe& universe, const Layer& layer, std::size_t first) const {
    Places places(layer.size(), kNowhere);
    const bool by_words = !regex_ && !glob_ && !piece_.empty(), settled = by_words && piece_ == text_;
    if (by_words) each_word_with_piece(layer, [&](std::size_t word) { mark(layer, word, first, places); });
    // What the words of the texts can't settle is read: all of it, or what has the longest piece.
    in_portions(layer.size(), [&](std::size_t i) {
      const auto id = static_cast<PackageId>(first + i);
      if (by_words && places[i] == kNowhere) return;
      if (!settled)
        places[i] = in_texts(universe, id);
      else if (places[i] == static_cast<std::uint8_t>(SearchField::Name))
        places[i] = static_cast<std::uint8_t>(in_name(universe.name(id)));
      else
        places[i] = static_cast<std::uint8_t>(kFoundIn[places[i]]);
    });
    return places;
  }

 private:
  static constexpr std::array<Found, 4> kFoundIn{Found::NamePart, Found::Summary, Found::Provided, Found::Description};

  static std::string longest_piece(std::string_view text) {
    std::string longest, piece;
    for (const char c : text) {
      if (word_byte(c) != 0)
        piece.push_back(c);
      else
        piece.clear();
      if (piece.size() > longest.size()) longest = piece;
    }
    return longest;
  }

  void mark(const Layer& layer, std::size_t word, std::size_t first, Places& places) const {
    const std::size_t start = layer.word_records[word].postings, end = layer.word_records[word + 1].postings;
    if (end < start) throw DamagedImage();
    for (const std::uint32_t posting : layer.postings.slice(start, end - start)) {
      const std::size_t package = (posting >> kFieldBits) - first;
      if (package >= places.size()) throw DamagedImage();
      places[package] = std::min(places[package], static_cast<std::uint8_t>(posting & ((1U << kFieldBits) - 1)));
    }
  }

  template <typename Function>
  void each_word_with_piece(const Layer& layer, Function f) const {
    const auto characters = layer.words.all();
    const std::string_view all(characters.data(), characters.size());
    for (std::size_t at = 0; (at = needle_.find(all, at)) != std::string_view::npos;) {
      std::size_t low = 0, high = layer.word_records.size() - 1;  // the word that begins at `at` or last before it
      while (high - low > 1) {
        const std::size_t middle = low + (high - low) / 2;
        (layer.word_records[middle].start <= at ? low : high) = middle;
      }
      f(low);
      const std::size_t next = layer.word_records[low + 1].start;
      if (next <= at) throw DamagedImage();
      at = next;
    }
  }

  /// Calls f for 0 to count - 1; on all processors where each call reads texts.
  template <typename Function>
  void in_portions(std::size_t count, Function f) const {
    constexpr std::size_t kPortion = 512;
    std::atomic<std::size_t> next = 0;
    const bool reads_all = regex_ || glob_ || piece_.empty();
    const std::size_t workers =
        reads_all ? std::min<std::size_t>(count / kPortion, std::max(1U, std::thread::hardware_concurrency())) : 1;
    by_threads(workers, [&] {
      for (std::size_t at = next.fetch_add(kPortion); at < count; at = next.fetch_add(kPortion))
        for (std::size_t i = at; i < std::min(at + kPortion, count); ++i) f(i);
    });
  }

  Found in_name(std::string_view name) const {
    if (name == text_) return Found::Name;
    return name.starts_with(text_) ? Found::NameStart : Found::NamePart;
  }

  std::uint8_t in_texts(const Universe& universe, PackageId id) const {
    const auto found = find_in_texts(universe, id);
    return found ? static_cast<std::uint8_t>(*found) : kNowhere;
  }

  std::optional<Found> find_in_texts(const Universe& universe, PackageId id) const {
    const std::string_view name = universe.name(id);
    const auto any_provided = [&](auto holds) {
      for (const RelationId provided : universe.relations(id, RelationList::Provides))
        if (holds(universe.name(universe.constraint(provided, 0).name))) return true;
      return false;
    };
    if (glob_) {
      if (glob_match(text_, name)) return Found::Name;
      if (any_provided([&](std::string_view one) { return glob_match(text_, one); })) return Found::Provided;
      return std::nullopt;
    }
    if (is_in(name)) return regex_ ? Found::NamePart : in_name(name);
    if (is_in(lower(universe.summary(id)))) return Found::Summary;
    if (any_provided([&](std::string_view one) { return is_in(one); })) return Found::Provided;
    if (is_in(lower(universe.description(id)))) return Found::Description;
    return std::nullopt;
  }

  bool is_in(std::string_view text) const {
    if (regex_) return RE2::PartialMatch({text.data(), text.size()}, *regex_);
    return text.find(text_) != std::string_view::npos;
  }

  std::string text_, piece_;
  Needle needle_;
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

std::optional<PackageId> lone_version(const Universe& universe, NameId name) {
  const Layer& base = universe.base();
  const auto number = static_cast<std::size_t>(name);
  if (number >= base.names()) return std::nullopt;
  const std::uint32_t first = base.name_starts[number];
  if (base.name_starts[number + 1] != first + 1 || !universe.overlay().providers_of(name).empty()) return std::nullopt;
  return static_cast<PackageId>(first);
}

std::vector<SearchHit> search(const Universe& universe, const std::vector<std::string>& texts, bool regex) {
  std::vector<Word> words;
  for (const std::string& text : texts)
    if (!text.empty()) words.emplace_back(text, regex);
  if (words.empty()) return {};
  std::vector<std::uint8_t> best(universe.name_count(), kNowhere);
  std::size_t first = 0;
  for (const Layer* layer : {&universe.base(), &universe.overlay()}) {
    Places worst = words.front().find(universe, *layer, first);
    for (std::size_t i = 1; i < words.size(); ++i) {
      const Places places = words[i].find(universe, *layer, first);
      for (std::size_t k = 0; k < worst.size(); ++k) worst[k] = std::max(worst[k], places[k]);
    }
    for (std::size_t k = 0; k < worst.size(); ++k) {
      if (worst[k] == kNowhere) continue;
      std::uint8_t& known = best[static_cast<std::size_t>(universe.name_id(static_cast<PackageId>(first + k)))];
      known = std::min(known, worst[k]);
    }
    first += layer->size();
  }
  const auto add_hit = [&](std::size_t i, std::vector<SearchHit>& hits) {
    if (best[i] == kNowhere) return;
    const auto name = static_cast<NameId>(i);
    const auto lone = lone_version(universe, name);
    if (lone ? universe.visible(*lone) : !universe.versions_of(name).empty())
      hits.push_back({lone ? *lone : representative(universe, name), static_cast<Found>(best[i])});
  };
  constexpr std::size_t kFew = 20000;  // most names are not hit
  auto hits = gathered<SearchHit>(best.size(), std::thread::hardware_concurrency(), kFew, add_hit);
  // names of the base are numbered in their order, and so are those of the overlay
  const auto by_name = [&](const SearchHit& a, const SearchHit& b) {
    return universe.name(a.id) < universe.name(b.id);
  };
  const auto of_overlay = std::partition_point(hits.begin(), hits.end(), [&](const SearchHit& one) {
    return static_cast<std::size_t>(universe.name_id(one.id)) < universe.base().names();
  });
  std::inplace_merge(hits.begin(), of_overlay, hits.end(), by_name);
  std::stable_sort(hits.begin(), hits.end(), [](const SearchHit& a, const SearchHit& b) { return a.found < b.found; });
  return hits;
}

}  // namespace hambrel
