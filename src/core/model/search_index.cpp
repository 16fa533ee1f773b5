#include "model/search_index.h"

#include <algorithm>
#include <bit>
#include <cstring>
#include <utility>

#include "base/leb128.h"
#include "base/parallel.h"

namespace hambrel {

namespace {

constexpr std::size_t kAfter = 8;  // bytes that hash_of_word() may read behind a word

/// Eight bytes of a word, or the rest of it and zeros; at least seven more bytes of the buffer follow the word.
std::uint64_t eight_of(const char* word, std::size_t at, std::size_t size) {
  std::uint64_t eight = 0;
  std::memcpy(&eight, word + at, sizeof eight);
  return size - at < 8 ? eight & ((1ULL << 8 * (size - at)) - 1) : eight;
}

std::uint64_t hash_of_word(const char* start, std::size_t size) {
  std::uint64_t hash = size;
  for (std::size_t at = 0; at < size; at += 8) hash = mixed(hash * 0x9e3779b97f4a7c15U ^ eight_of(start, at, size));
  return hash;
}

/// Is `known`, behind which a line feed and perhaps other words stand, this word of the same size?
bool is_same_word(std::string_view known, const char* word, std::size_t size) {
  if (known.size() < size + kAfter) return std::memcmp(known.data(), word, size) == 0;
  for (std::size_t at = 0; at < size; at += 8)
    if (eight_of(known.data(), at, size) != eight_of(word, at, size)) return false;
  return true;
}

/// word_byte() of all bytes of a text; many at a time, as there is no table in it.
void put_word_bytes(std::string_view text, char* to) {
  for (std::size_t i = 0; i < text.size(); ++i) {
    const auto byte = static_cast<std::uint8_t>(text[i]);
    const auto small = static_cast<std::uint8_t>(byte | 0x20);
    const bool is_letter = static_cast<std::uint8_t>(small - 'a') < 26;
    const bool is_plain = static_cast<std::uint8_t>(byte - '0') < 10 || byte >= 0x80;
    const std::uint8_t other = is_plain ? byte : 0;
    to[i] = static_cast<char>(is_letter ? small : other);
  }
}

/// The highest bit of each byte that is zero, and no other one (H. S. Warren, "Hacker's Delight", 6-1).
std::uint64_t zero_bytes(std::uint64_t eight) {
  constexpr std::uint64_t kLow = 0x7f7f7f7f7f7f7f7f;
  return ~(((eight & kLow) + kLow) | eight | kLow);
}

}  // namespace

void SearchIndexBuilder::add(std::uint32_t package, SearchField field, std::string_view text) {
  if (package >= 1U << (32 - kFieldBits) || words_.size() + text.size() > UINT32_MAX) throw too_much_text();
  // First all words, then the known ones among them: memory is asked for ahead, or each word would wait for it twice.
  room_.resize(std::max(room_.size(), text.size() + kAfter));
  met_.clear();
  put_word_bytes(text, room_.data());
  std::fill_n(room_.begin() + static_cast<std::ptrdiff_t>(text.size()), kAfter, '\0');
  const auto size = static_cast<std::uint32_t>(text.size());
  std::uint32_t start = 0;
  for (std::uint32_t at = 0; at < size; at += 8) {
    std::uint64_t eight = 0;
    std::memcpy(&eight, room_.data() + at, sizeof eight);
    for (std::uint64_t zeros = zero_bytes(eight); zeros != 0; zeros &= zeros - 1) {
      const std::uint32_t end = at + static_cast<std::uint32_t>(std::countr_zero(zeros)) / 8;
      if (end > start) meet(start, end - start);
      start = end + 1;
    }
  }
  if (start < size) meet(start, size - start);
  for (const Met& one : met_)
    if (const auto number = numbers_.first_guess(one.hash)) __builtin_prefetch(&known_[*number]);
  std::uint32_t words = 0;
  for (const Met& one : met_)
    if (say(package, one)) ++words;
  sayings_.push_back({package << kFieldBits | static_cast<std::uint32_t>(field), words});
}

void SearchIndexBuilder::meet(std::uint32_t start, std::uint32_t size) {
  met_.push_back({hash_of_word(room_.data() + start, size), start, size});
  numbers_.prefetch(met_.back().hash);
}

/// Does the package not say it already?
bool SearchIndexBuilder::say(std::uint32_t package, const Met& met) {
  const auto next = static_cast<std::uint32_t>(known_.size());
  const char* const own = room_.data() + met.start;
  const std::uint32_t word = numbers_.enter(met.hash, next, [&](std::uint32_t other) {
    const Known& one = known_[other];
    return one.size == met.size && is_same_word(std::string_view(words_).substr(one.start), own, met.size);
  });
  if (word == next) {
    known_.push_back({static_cast<std::uint32_t>(words_.size()), met.size, 0, 0});
    words_.append(own, met.size).push_back('\n');
  }
  Known& known = known_[word];
  if (known.last == package + 1) return false;
  known.last = package + 1;
  ++known.count;
  constexpr std::size_t kPiece = 64 << 10, kLongest = 5;  // bytes
  if (said_.empty() || said_.back().size() + kLongest > kPiece) said_.emplace_back().reserve(kPiece);
  put_leb128(said_.back(), word);
  return true;
}

/// The numbers that the words of another one have here.
std::vector<std::uint32_t> SearchIndexBuilder::take_words(SearchIndexBuilder& other) {
  other.words_.append(kAfter, '\0');
  std::vector<std::uint32_t> numbers;
  numbers.reserve(other.known_.size());
  for (const Known& one : other.known_) {
    const char* const text = other.words_.data() + one.start;
    const auto next = static_cast<std::uint32_t>(known_.size());
    const std::uint32_t word = numbers_.enter(hash_of_word(text, one.size), next, [&](std::uint32_t known) {
      return known_[known].size == one.size && std::memcmp(words_.data() + known_[known].start, text, one.size) == 0;
    });
    if (word == next) {
      if (words_.size() + one.size > UINT32_MAX) throw too_much_text();
      known_.push_back({static_cast<std::uint32_t>(words_.size()), one.size, 0, 0});
      words_.append(text, one.size).push_back('\n');
    }
    numbers.push_back(word);
  }
  return numbers;
}

/// Each where the count of its word says, which goes on from there.
void SearchIndexBuilder::put_postings(std::vector<std::uint32_t>& postings) {
  auto piece = said_.begin();
  const char* at = piece == said_.end() ? nullptr : piece->data();
  for (const Saying& one : sayings_)
    for (std::uint32_t i = 0; i < one.words; ++i) {
      if (at == piece->data() + piece->size()) at = (++piece)->data();
      std::uint32_t word = 0;
      unsigned shift = 0;
      for (; (*at & 0x80) != 0; shift += 7) word |= (static_cast<std::uint32_t>(*at++) & 0x7fU) << shift;
      word |= static_cast<std::uint32_t>(*at++) << shift;
      postings[known_[word].count++] = one.posting;
    }
}

SearchIndexBuilder::Arrays SearchIndexBuilder::finish(SearchIndexBuilder& later) {
  const std::vector<std::uint32_t> numbers = take_words(later);
  std::vector<std::uint32_t> theirs(known_.size());  // by word: how many, then where they begin
  for (std::size_t i = 0; i < numbers.size(); ++i) theirs[numbers[i]] = later.known_[i].count;
  Arrays arrays;
  arrays.records.reserve(known_.size() + 1);
  std::uint64_t at = 0;
  for (std::size_t word = 0; word < known_.size(); ++word) {
    arrays.records.push_back({known_[word].start, static_cast<std::uint32_t>(at)});
    const std::uint32_t own = std::exchange(known_[word].count, static_cast<std::uint32_t>(at));
    at += own;
    at += std::exchange(theirs[word], static_cast<std::uint32_t>(at));
    if (at > UINT32_MAX) throw too_much_text();
  }
  arrays.records.push_back({static_cast<std::uint32_t>(words_.size()), static_cast<std::uint32_t>(at)});
  for (std::size_t i = 0; i < numbers.size(); ++i) later.known_[i].count = theirs[numbers[i]];
  numbers_ = {};
  later.numbers_ = {};
  arrays.postings.resize(at);
  auto rest = aside([&] { later.put_postings(arrays.postings); });
  put_postings(arrays.postings);
  rest.get();
  arrays.words = std::move(words_);
  *this = later = {};
  return arrays;
}

}  // namespace hambrel
