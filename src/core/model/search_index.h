// The words of a layer's packages, each once, with the packages that say it: what search looks through instead of the
// texts themselves.
//
// A word is a run of ASCII letters, digits and bytes beyond ASCII, in small letters. Invariants: a text holds what is
// asked for, if that is made of such bytes alone, exactly where one of its words holds it; a package stands once with a
// word, under the first of its fields that has it; postings of a word grow by package.
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "model/interning.h"
#include "model/layer.h"

namespace hambrel {

/// In the order of their worth.
enum class SearchField : std::uint32_t { Name, Summary, Provided, Description };
inline constexpr std::uint32_t kFieldBits = 2;

/// The byte as it stands in a word, 0 for one that parts words.
inline char word_byte(char c) {
  static constexpr std::array<char, 256> kBytes = [] {
    std::array<char, 256> bytes{};
    for (int value = 0; value < 256; ++value) {
      const bool capital = value >= 'A' && value <= 'Z';
      const bool plain = (value >= 'a' && value <= 'z') || (value >= '0' && value <= '9') || value >= 0x80;
      const int other = plain ? value : 0;
      bytes[static_cast<std::size_t>(value)] = static_cast<char>(capital ? value - 'A' + 'a' : other);
    }
    return bytes;
  }();
  return kBytes[static_cast<std::uint8_t>(c)];
}

class SearchIndexBuilder {
 public:
  /// Packages come in growing order, the fields of each in the order of their worth.
  void add(std::uint32_t package, SearchField field, std::string_view text);

  struct Arrays {
    std::string words;  // each followed by a line feed
    std::vector<image::WordRecord> records;
    std::vector<std::uint32_t> postings;
  };
  /// `later` has seen the packages that come after those of this one; both are empty afterwards.
  Arrays finish(SearchIndexBuilder& later);

 private:
  struct Met {  // a word of the text at hand, in room_
    std::uint64_t hash;
    std::uint32_t start, size;
  };
  void meet(std::uint32_t start, std::uint32_t size);
  void put_postings(std::vector<std::uint32_t>& postings);
  std::vector<std::uint32_t> take_words(SearchIndexBuilder& other);
  bool say(std::uint32_t package, const Met& met);

  struct Known {  // a word
    std::uint32_t start, size;
    std::uint32_t last, count;  // 1 + the package that said it last; by how many it is said
  };
  struct Saying {                  // of one package in one field
    std::uint32_t posting, words;  // so many
  };
  Numbers numbers_;
  std::string words_, room_;
  std::vector<Met> met_;
  std::vector<Known> known_;
  std::vector<std::string> said_;  // the words of all sayings, in LEB128: millions, of which the commonest come first
  std::vector<Saying> sayings_;
};

}  // namespace hambrel
