#include "model/search_index.h"

#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

namespace hambrel {

namespace {

using Postings = std::map<std::string, std::set<std::uint32_t>>;  // by word: packages, with the first field that has it

/// Read byte by byte.
void add_words(Postings& postings, std::uint32_t package, SearchField field, const std::string& text) {
  std::string word;
  const auto end = [&] {
    if (word.empty()) return;
    std::set<std::uint32_t>& known = postings[word];
    const auto first = known.lower_bound(package << kFieldBits);
    if (first == known.end() || *first >> kFieldBits != package)
      known.insert(package << kFieldBits | static_cast<std::uint32_t>(field));
    word.clear();
  };
  for (const char c : text) {
    if (word_byte(c) == 0)
      end();
    else
      word += word_byte(c);
  }
  end();
}

std::string random_text(std::mt19937& random) {
  static const std::string bytes = "aabcZz09 -.\n\xc3\xa4\x7f@[`{";
  std::string text;
  for (std::size_t size = random() % 40; text.size() < size;) text += bytes[random() % bytes.size()];
  return text;
}

Postings postings_of(const SearchIndexBuilder::Arrays& arrays) {
  Postings found;
  for (std::size_t i = 0; i + 1 < arrays.records.size(); ++i) {
    const std::string word =
        arrays.words.substr(arrays.records[i].start, arrays.records[i + 1].start - arrays.records[i].start - 1);
    const auto first = arrays.postings.begin() + arrays.records[i].postings,
               last = arrays.postings.begin() + arrays.records[i + 1].postings;
    EXPECT_TRUE(std::is_sorted(first, last)) << word;
    found[word].insert(first, last);
  }
  return found;
}

}  // namespace

TEST(SearchIndex, HoldsTheWordsThatReadingByteByByteFinds) {
  std::mt19937 random(3);
  for (int round = 0; round < 300; ++round) {
    SearchIndexBuilder early, late;
    Postings expected;
    for (std::uint32_t package = 0; package < 20; ++package)
      for (const SearchField field : {SearchField::Name, SearchField::Summary, SearchField::Description}) {
        const std::string text = random_text(random);
        (package < 12 ? early : late).add(package, field, text);
        add_words(expected, package, field, text);
      }
    ASSERT_EQ(postings_of(early.finish(late)), expected);
  }
}

TEST(SearchIndex, HoldsMoreThanAPieceOfMemoryDoes) {
  std::mt19937 random(4);
  SearchIndexBuilder early, late;
  Postings expected;
  for (std::uint32_t package = 0; package < 40; ++package) {
    std::string text;
    for (int word = 0; word < 4000; ++word) text += std::to_string(random() % 30'000) + " ";
    (package < 15 ? early : late).add(package, SearchField::Description, text);
    add_words(expected, package, SearchField::Description, text);
  }
  ASSERT_EQ(postings_of(early.finish(late)), expected);
}

}  // namespace hambrel
