#include "operations/subset.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "archive/frame_codec.h"
#include "base/error.h"
#include "base/text.h"
#include "model/spec.h"
#include "model/universe.h"
#include "repo/index.h"
#include "repo/publish.h"
#include "repo/publish_notes.h"
#include "repo/signing_round.h"
#include "solve/solver.h"

namespace hambrel::operations {

namespace {

constexpr std::uint64_t kMostNoteBytes = 1 << 20;

using repo::IndexLine;
using repo::kSubset;
using repo::package_path;

std::vector<IndexLine> served_lines(os::FileSystem& from) {
  const auto served = repo::served_documents(from);
  if (!served)
    throw Error(ErrorCode::Refused, "nothing was published here yet", from.shown(""),
                "run `hambrel publish` on it first");
  const trust::Pointer& full = served->indexes.full;
  const std::string stored = from.read_all(full.path, trust::kMostIndexBytes);
  trust::check_content(stored, full, from.shown(full.path));
  std::string text;
  archive::decompress_in_pieces(stored, archive::most_plain(stored.size()), full.path,
                                [&](std::string_view piece) { text += piece; });
  return repo::parse_index(text, full.path);
}

/// A line of an index, and the repository that it is of.
struct SourceLine {
  IndexLine line;
  os::FileSystem* from;
};

/// Which packages the specs ask for, and what is needed with them.
class Choice {
 public:
  Choice(std::vector<SourceLine> lines, const std::vector<std::string>& specs, const std::string& arch)
      : lines_(std::move(lines)) {
    std::map<std::string, std::string> channels;  // by name, where a spec says it
    for (const std::string& text : specs) {
      specs_.push_back(parse_spec(text));
      if (specs_.back().kind == Spec::Kind::Channel) channels[specs_.back().constraint.name] = specs_.back().channel;
    }
    std::vector<Candidate> candidates;
    for (const auto& [line, from] : lines_) {
      const auto channel = channels.find(line.package.name);
      if (line.channel != (channel == channels.end() ? "stable" : channel->second)) continue;
      Candidate one;
      one.package = line.package;
      Offer offer;
      offer.repository = "this";
      offer.channel = line.channel;
      offer.size = line.size;
      offer.digest = line.digest;
      one.offers.push_back(std::move(offer));
      candidates.push_back(std::move(one));
    }
    universe_.emplace(candidates, std::vector<std::string>{arch});
  }

  std::vector<const SourceLine*> chosen() const {
    solve::Request request;
    for (const Spec& spec : specs_) request.install.push_back({spec.text, candidates_of(spec)});
    const auto answer = solve::solve(*universe_, request);
    if (const auto* const refusal = std::get_if<solve::Refusal>(&answer))
      throw Error(ErrorCode::Refused, "these cannot be installed together: " + refusal->what, {},
                  "make one subset for each of them");
    std::set<std::string> paths;
    for (const PackageId id : std::get<solve::Selection>(answer).chosen)
      paths.insert(package_path(universe_->package(id)));
    std::vector<const SourceLine*> result;
    for (const SourceLine& one : lines_)
      if (paths.erase(package_path(one.line.package)) > 0) result.push_back(&one);
    return result;
  }

 private:
  std::vector<PackageId> candidates_of(const Spec& spec) const {
    std::vector<PackageId> ids;
    if (spec.kind == Spec::Kind::Name || spec.kind == Spec::Kind::Channel)
      for (const PackageId id : universe_->versions_of(spec.constraint.name))
        if (version_allowed(spec.constraint.op, spec.constraint.version.text(), universe_->version(id)))
          ids.push_back(id);
    if (ids.empty())
      throw Error(ErrorCode::Refused, fmt::format("{} is not in this repository", printable(spec.text)), {},
                  "name packages as NAME, NAME=VERSION, NAME@CHANNEL or group:NAME");
    return ids;
  }

  std::vector<SourceLine> lines_;
  std::vector<Spec> specs_;
  std::optional<Universe> universe_;
};

void require_ours(os::FileSystem& to) {
  if (to.stat(kSubset) || to.list("").empty()) return;
  throw Error(ErrorCode::Refused, "the directory is not empty, and was not made by --subset", to.shown(""),
              "choose another one");
}

void copy_file(os::FileSystem& from, os::FileSystem& to, const std::string& path, ByteCount size) {
  const std::string part = path + ".part";
  to.make_directories(os::parent_of(path));
  if (to.stat(part)) to.remove_file(part);
  const auto in = from.open(path);
  const auto out = to.create(part, 0644);
  std::string piece(1 << 20, '\0');
  for (ByteCount at = 0; at < size;) {
    const std::size_t got = in->read_at(at, std::as_writable_bytes(std::span(piece)));
    if (got == 0) throw Error(ErrorCode::Io, "became shorter while it was read", from.shown(path));
    out->write(std::string_view(piece).substr(0, got));
    at += got;
  }
  out->sync();
  out->close();
  to.rename(part, path);
}

void drop_others(os::FileSystem& to, const std::set<std::string>& wanted) {
  if (!to.stat("packages")) return;
  for (const std::string& name : to.list("packages"))
    for (const std::string& file : to.list("packages/" + name))
      if (const std::string path = os::join_path("packages/" + name, file); !wanted.contains(path))
        to.remove_file(path);
}

/// Advisories and news of all of them.
void copy_notes(const std::vector<os::FileSystem*>& from, os::FileSystem& to) {
  for (const std::string& path : repo::note_files(to)) to.remove_file(path);
  std::string news;
  to.make_directories("advisories");
  for (os::FileSystem* const one : from)
    for (const std::string& path : repo::note_files(*one)) {
      const std::string text = one->read_all(path, kMostNoteBytes);
      if (path == repo::kNewsFile)
        news += text + "\n";
      else
        to.replace_file(path, text, 0644);
    }
  if (!news.empty()) to.replace_file(repo::kNewsFile, news, 0644);
}

}  // namespace

Subset copy_subset(const std::vector<os::FileSystem*>& from, os::FileSystem& to, const std::vector<std::string>& specs,
                   const std::string& arch, Observer& observer) {
  require_ours(to);
  std::vector<SourceLine> lines;
  for (os::FileSystem* const one : from)
    for (IndexLine& line : served_lines(*one)) lines.push_back({std::move(line), one});
  const Choice choice(std::move(lines), specs, arch);
  const auto chosen = choice.chosen();
  to.make_directories(".publish");
  to.replace_file(kSubset, join(specs, "\n") + "\n", 0644);
  Subset subset;
  std::set<std::string> wanted;
  std::string rules;
  observer.begin("copying packages", chosen.size(), Observer::Unit::Items);
  for (const SourceLine* const one : chosen) {
    const IndexLine* const line = &one->line;
    const std::string path = package_path(line->package);
    wanted.insert(path);
    if (!to.stat(path) || to.digest(path) != line->digest) {
      copy_file(*one->from, to, path, line->size);
      ++subset.copied;
      if (to.digest(path) != line->digest)
        throw Error(ErrorCode::Untrusted, "is not the file that the index names", one->from->shown(path),
                    "run `hambrel publish` on the repository");
    }
    if (line->channel != "stable")
      rules += fmt::format("[[channel]]\nname = \"{}\"\npackages = [\"{} = {}\"]\n\n", line->channel,
                           line->package.name, line->package.version.text());
    subset.bytes += line->size;
    observer.progress(++subset.packages);
  }
  observer.end();
  drop_others(to, wanted);
  copy_notes(from, to);
  to.replace_file("repository.toml", rules, 0644);
  return subset;
}

}  // namespace hambrel::operations
