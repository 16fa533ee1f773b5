// What a signed repository serves, and what is still being signed for it.
//
// New documents lie in trust/unfinished/ until each has as many signatures as the root asks: targets, then the snapshot
// that names them, then the timestamp that names that. Only then are they served: a new root first, the timestamp last.
// Until then nothing that is served changes. Documents can be signed anywhere meanwhile (`hambrel key sign`); a
// signature that was made counts as long as what is to be signed stays the same.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "os/file_system.h"
#include "trust/documents.h"
#include "trust/signing.h"

namespace hambrel::repo {

inline constexpr const char* kUnfinished = "trust/unfinished";

/// What is published last, or is to be.
struct Documents {
  std::string timestamp, snapshot, targets;
  trust::Indexes indexes;
};
/// What is served; nothing: no index was published yet. Throws Error{Invalid} for damaged documents.
std::optional<Documents> served_documents(os::FileReader& directory);

/// What is asked of the keys.
struct RootChange {
  bool first = false;                      // make the first root document
  std::vector<trust::Root::Of> rotated{};  // these get the keys at hand that are named so
  trust::Thresholds thresholds{};
  bool any() const { return first || !rotated.empty() || !thresholds.empty(); }
};

struct Unsigned {
  std::string file;  // below the repository: what has to be signed
  std::uint64_t version = 0;
  trust::Missing missing;
};

class SigningRound {
 public:
  /// `where`: of the keys, for messages. `now` in seconds.
  SigningRound(os::FileSystem& directory, const trust::KeyRing& ring, std::string where, std::int64_t now,
               trust::Validities validities);

  /// Makes the root document that is asked for, or goes on with the one that is unfinished. One that still lacks
  /// signatures waits, and the one that is served stands.
  void go_on_with_root(const RootChange& change);
  /// The root that is served stands, whatever waits.
  void keep_to_served_root();
  /// The root that documents are signed by: one that is unfinished, too. Nothing: the repository is not signed.
  const std::optional<trust::Root>& root() const { return root_; }

  /// Is what is served signed by this root, with at least half of its life left?
  bool is_good(const Documents& served) const;
  bool is_timestamp_good(const Documents& served) const;
  /// Are there documents that wait for signatures? Of which number then.
  std::optional<std::uint64_t> unfinished() const;

  /// Signs for an index, and serves all of it once it is complete. `version`: its number.
  bool sign(std::uint64_t version, const trust::Indexes& indexes, const std::optional<Documents>& served);
  /// Goes on with what is unfinished. Throws Error{NotFound} where nothing is.
  bool finish(const std::optional<Documents>& served);
  /// A newer timestamp of what is served.
  bool renew(const Documents& served);
  /// Only a root that is complete.
  bool serve_root();

  const std::vector<Unsigned>& missing() const { return missing_; }
  /// The root that was asked for or is being signed; nothing: there is none.
  const std::optional<trust::Root>& next_root() const { return next_; }

 private:
  std::optional<std::string> read(const std::string& path) const;
  std::optional<trust::SignedDocument> make_next_root(const RootChange& change,
                                                      const std::optional<trust::Root>& served);
  /// The document that lies there unfinished if it says the same, else a new one, signed with what is at hand. Nothing
  /// where signatures are missing.
  std::optional<std::string> signed_one(const std::string& path, trust::Root::Of role, trust::SignedDocument document);
  bool sign_timestamp(std::uint64_t snapshot_version, const std::string& snapshot,
                      const std::optional<Documents>& served);
  std::int64_t expires(trust::Root::Of role) const { return now_ + trust::validity(role, validities_); }
  bool is_good(trust::Root::Of role, const std::string& text) const;
  /// What is complete takes its place; `names` in the order in which readers may see it.
  void serve(const std::vector<std::string>& names);
  /// Documents that were begun and are not needed any more.
  void drop_unfinished();

  os::FileSystem& directory_;
  const trust::KeyRing& ring_;
  std::string where_;
  std::int64_t now_;
  trust::Validities validities_;
  std::optional<trust::Root> root_, next_;
  std::string new_root_;        // the name of root_, while that is not served
  bool has_whole_root_ = true;  // else nothing can be served: the first one lacks signatures
  std::vector<Unsigned> missing_;
};

}  // namespace hambrel::repo
