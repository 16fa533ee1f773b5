#include "archive/signatures.h"

#include <cstring>

#include "archive/table.h"
#include "base/error.h"

namespace hambrel::archive {

namespace {

constexpr std::string_view kSignatureMark = "HAMSIGNS";
constexpr std::uint32_t kVersion = 1;
constexpr std::size_t kFrameHeader = 8, kHead = 16, kEach = 32 + 64;

void put_number(std::string& bytes, std::uint32_t value) {
  for (unsigned shift = 0; shift < 32; shift += 8) bytes += static_cast<char>((value >> shift) & 0xFFU);
}

}  // namespace

std::string encode_signatures(const std::vector<PackageSignature>& signatures) {
  std::string bytes = skippable_header(kSignaturesMagic, static_cast<std::uint32_t>(kHead + signatures.size() * kEach));
  bytes += kSignatureMark;
  put_number(bytes, kVersion);
  put_number(bytes, static_cast<std::uint32_t>(signatures.size()));
  for (const PackageSignature& one : signatures) {
    bytes.append(reinterpret_cast<const char*>(one.key.data()), one.key.size());
    bytes.append(reinterpret_cast<const char*>(one.signature.data()), one.signature.size());
  }
  return bytes;
}

std::vector<PackageSignature> decode_signatures(std::string_view bytes, const std::string& where) {
  std::vector<PackageSignature> signatures;
  const std::size_t count = bytes.size() < kFrameHeader + kHead ? 0 : (bytes.size() - kFrameHeader - kHead) / kEach;
  signatures.resize(std::min(count, kMostSignatures));
  for (std::size_t i = 0; i < signatures.size(); ++i) {
    const char* const at = bytes.data() + kFrameHeader + kHead + i * kEach;
    std::memcpy(signatures[i].key.data(), at, signatures[i].key.size());
    std::memcpy(signatures[i].signature.data(), at + signatures[i].key.size(), signatures[i].signature.size());
  }
  bool ascending = true;
  for (std::size_t i = 1; i < signatures.size(); ++i) ascending &= signatures[i - 1].key < signatures[i].key;
  // there is one form only
  if (signatures.empty() || !ascending || encode_signatures(signatures) != bytes)
    throw Error(ErrorCode::Untrusted, "what stands between the table of contents and the end is no list of signatures",
                where, "fetch or copy the file again");
  return signatures;
}

std::string signed_message(const Digest& table) {
  std::string message = "hambrel package 1\n";
  message.append(reinterpret_cast<const char*>(table.bytes.data()), table.bytes.size());
  return message;
}

}  // namespace hambrel::archive
