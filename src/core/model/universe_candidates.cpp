// Candidates with their texts, made from the numbers of the layers when they are first asked for.
#include <algorithm>
#include <tuple>

#include "model/universe.h"

namespace hambrel {

namespace {

auto quality(const Offer& offer) {
  return std::tuple(offer.repository.empty() ? 0 : 1, offer.followed ? 0 : 1, offer.rank, offer.repository,
                    offer.channel);
}

}  // namespace

std::vector<Offer> Universe::offers_of(PackageId id) const {
  std::vector<Offer> offers;
  for (std::size_t i = 0, count = offer_count(id); i < count; ++i) {
    const OfferView view = offer(id, i);
    const image::PackageRecord* one = &record(id);
    const Layer* home = &layer(id);
    std::size_t at = i;
    if (i >= one->offer_count) {
      at -= one->offer_count;
      one = &base_->packages[one->shadows - 1];
      home = base_.get();
    }
    const image::OfferFile& file = home->offer_files[one->offers + at];
    Offer offer;
    offer.repository = view.repository;
    offer.channel = view.channel;
    offer.rank = view.rank;
    offer.enabled = view.enabled;
    offer.followed = view.enabled && view.followed;
    offer.size = view.size;
    offer.local_path = home->text(file.local_path);
    std::copy(std::begin(file.digest), std::end(file.digest), offer.digest.bytes.begin());
    std::copy(std::begin(file.table_digest), std::end(file.table_digest), offer.table_digest.bytes.begin());
    offer.table_offset = file.table_offset;
    offer.table_size = file.table_size;
    offers.push_back(std::move(offer));
  }
  std::sort(offers.begin(), offers.end(), [](const Offer& a, const Offer& b) { return quality(a) < quality(b); });
  return offers;
}

namespace {

auto actions_in(std::string_view text) {
  try {
    return actions_from(text);
  } catch (const Error&) {
    throw DamagedImage();
  }
}

void read_numbers(const image::PackageRecord& record, const image::DetailRecord& detail, Package& package) {
  package.essential = (detail.flags & image::DetailRecord::kEssential) != 0;
  package.parallel = record.parallel;
  package.installed_size = record.installed_size;
  package.file_count = detail.file_count;
}

}  // namespace

std::unique_ptr<Candidate> Universe::make(PackageId id) const {
  auto result = std::make_unique<Candidate>();
  const Layer& home = layer(id);
  const image::PackageRecord& one = record(id);
  const image::DetailRecord& detail = home.details[one.details];
  Package& package = result->package;
  const auto version = [](std::string_view text) {
    auto parsed = Version::parse(text);
    if (!parsed) throw DamagedImage();
    return std::move(*parsed);
  };
  const auto constraint_at = [&](RelationId relation, std::size_t i) {
    const ConstraintView view = constraint(relation, i);
    Constraint result_one;
    result_one.name = name(view.name);
    result_one.op = view.op;
    if (view.op != Operator::Any) result_one.version = version(view.version);
    return result_one;
  };
  package.name = name(id);
  package.version = version(home.text(one.version));
  package.arch = home.text(home.architectures[one.arch]);
  package.summary = home.text(one.summary);
  package.description = home.text(detail.description);
  package.license = home.text(detail.license);
  package.homepage = home.text(detail.homepage);
  package.maintainer = home.text(detail.maintainer);
  package.category = home.text(detail.category);
  package.source = home.text(detail.source);
  package.restart = home.text(detail.restart);
  const std::pair<RelationList, std::vector<Relation>*> with_alternatives[] = {
      {RelationList::Requires, &package.requires_},
      {RelationList::Recommends, &package.recommends},
      {RelationList::Suggests, &package.suggests}};
  for (const auto& [list, values] : with_alternatives)
    for (const RelationId relation : relations(id, list)) {
      Relation made;
      for (std::size_t i = 0; i < constraint_count(relation); ++i)
        made.alternatives.push_back(constraint_at(relation, i));
      values->push_back(std::move(made));
    }
  const std::pair<RelationList, std::vector<Constraint>*> single[] = {{RelationList::Conflicts, &package.conflicts},
                                                                      {RelationList::Provides, &package.provides},
                                                                      {RelationList::Replaces, &package.replaces}};
  for (const auto& [list, values] : single)
    for (const RelationId relation : relations(id, list)) values->push_back(constraint_at(relation, 0));
  const auto read_list = [&](std::uint32_t first, std::uint32_t count, std::vector<std::string>& into) {
    for (const TextId text : home.lists.slice(first, count)) into.emplace_back(home.text(text));
  };
  read_list(detail.config_globs, detail.config_count, package.config_globs);
  read_list(detail.features, detail.feature_count, package.features);
  read_list(detail.privileged, detail.privileged_count, package.privileged);
  package.actions = actions_in(home.text(detail.actions));
  read_numbers(one, detail, package);
  for (Offer& offer : offers_of(id)) (offer.enabled ? result->offers : result->elsewhere).push_back(std::move(offer));
  const auto* const record = installed_record(id);
  if (record == nullptr && is_installed(id)) throw DamagedImage();
  if (record != nullptr) result->installed = make_installed(id, *record);
  return result;
}

Installed Universe::make_installed(PackageId id, const image::InstalledRecord& record) const {
  Installed installed;
  installed.row = record.row;
  installed.time = record.time;
  installed.reason = record.wanted != 0 ? Reason::Wanted : Reason::PulledIn;
  installed.origin = overlay_->text(record.origin);
  std::copy(std::begin(record.digest), std::end(record.digest), installed.digest.bytes.begin());
  if (held(id))
    installed.hold = Hold{record.held_since, record.held_until, std::string(overlay_->text(record.hold_reason)),
                          std::string(overlay_->text(record.hold_user))};
  return installed;
}

}  // namespace hambrel
