// Filling a layer.
#include "base/assert.h"
#include "model/layer_builder_impl.h"

namespace hambrel {

namespace {

void copy(std::uint8_t (&to)[32], const Digest& from) { std::copy(from.bytes.begin(), from.bytes.end(), to); }

}  // namespace

LayerBuilder::LayerBuilder(const Layer* base) : impl_(std::make_unique<Impl>()) { impl_->base = base; }
LayerBuilder::~LayerBuilder() = default;

LayerBuilder::Handle LayerBuilder::add(const Package& package) {
  Impl& in = *impl_;
  image::PackageRecord record{};
  if (in.base == nullptr) in.expect_names(package);
  record.uses = static_cast<std::uint32_t>(in.uses.size());
  const auto add_relations = [&](RelationList list, const auto& values) {
    record.counts[static_cast<std::size_t>(list)] = static_cast<std::uint16_t>(values.size());
    for (const auto& value : values) {
      const bool by_name_only = list == RelationList::Replaces;
      if constexpr (std::is_same_v<std::decay_t<decltype(value)>, Relation>)
        in.uses.push_back(in.relation_of(package, list, value.alternatives, by_name_only));
      else
        in.uses.push_back(in.relation_of(package, list, std::span(&value, 1), by_name_only));
    }
  };
  add_relations(RelationList::Requires, package.requires_);
  add_relations(RelationList::Recommends, package.recommends);
  add_relations(RelationList::Suggests, package.suggests);
  add_relations(RelationList::Conflicts, package.conflicts);
  add_relations(RelationList::Provides, package.provides);
  add_relations(RelationList::Replaces, package.replaces);
  return in.add(package, record);
}

LayerBuilder::Handle LayerBuilder::add(const Package& package, const WrittenRelations& relations) {
  Impl& in = *impl_;
  HAMBREL_ASSERT(in.base == nullptr, "only relations of a base are told by their texts");
  image::PackageRecord record{};
  record.uses = static_cast<std::uint32_t>(in.uses.size());
  relations.each([&](RelationList list, std::string_view text) { in.written.expect(list, text); });
  relations.each([&](RelationList list, std::string_view text) {
    ++record.counts[static_cast<std::size_t>(list)];
    in.uses.push_back(in.written.number(list, text, [&](std::string_view fresh) { return in.read(list, fresh); }));
  });
  return in.add(package, record);
}

std::uint32_t LayerBuilder::Impl::read(RelationList list, std::string_view text) {
  switch (list) {
    case RelationList::Requires:
    case RelationList::Recommends:
    case RelationList::Suggests: return relation(parse_relation(text, "").alternatives, false);
    default: break;
  }
  const Constraint one = list == RelationList::Provides ? parse_provided(text, "") : parse_constraint(text, "");
  return relation(std::span(&one, 1), list == RelationList::Replaces);
}

std::uint32_t LayerBuilder::Impl::add(const Package& package, image::PackageRecord record) {
  Impl& in = *this;
  record.name = name(package.name);
  record.version = in.texts.enter(package.version.text());
  record.arch = in.architecture(package.arch);
  record.parallel = static_cast<std::uint8_t>(std::min<std::uint32_t>(package.parallel, 255));
  record.installed_size = package.installed_size;
  image::DetailRecord detail{};
  detail.flags = package.essential ? image::DetailRecord::kEssential : 0;
  record.summary = in.summaries.add(package.summary);
  detail.description = in.descriptions.add(package.description);
  detail.license = in.texts.enter(package.license);
  detail.homepage = in.texts.enter(package.homepage);
  detail.maintainer = in.texts.enter(package.maintainer);
  detail.category = in.texts.enter(package.category);
  detail.source = in.texts.enter(package.source);
  detail.restart = in.texts.enter(package.restart);
  detail.config_globs = in.list_of(package.config_globs);
  detail.config_count = static_cast<std::uint32_t>(package.config_globs.size());
  detail.features = in.list_of(package.features);
  detail.feature_count = static_cast<std::uint32_t>(package.features.size());
  detail.privileged = in.list_of(package.privileged);
  detail.privileged_count = static_cast<std::uint32_t>(package.privileged.size());
  if (package.actions) detail.actions = in.texts.enter(actions_text(package.actions));
  detail.file_count = package.file_count;
  record.details = static_cast<std::uint32_t>(in.details.size());
  in.details.push_back(detail);
  in.packages.push_back(record);
  return static_cast<std::uint32_t>(in.packages.size() - 1);
}

void LayerBuilder::add_offer(Handle handle, const Offer& offer) {
  Impl& in = *impl_;
  const TextId repository = in.texts.enter(offer.repository), channel = in.texts.enter(offer.channel);
  const auto next = static_cast<std::uint32_t>(in.places.size());
  const std::uint32_t place = in.place_numbers.enter(
      mixed(repository + (static_cast<std::uint64_t>(channel) << 32U)), next, [&](std::uint32_t other) {
        return in.places[other].repository == repository && in.places[other].channel == channel;
      });
  if (place == next) in.places.push_back({repository, channel});
  OfferOf one{};
  one.package = handle;
  one.head = {place, 0, offer.size};
  copy(one.file.digest, offer.digest);
  copy(one.file.table_digest, offer.table_digest);
  one.file.table_offset = offer.table_offset;
  one.file.table_size = offer.table_size;
  one.file.local_path = in.texts.enter(offer.local_path);
  in.offers.push_back(one);
}

void LayerBuilder::shadow(Handle handle, std::uint32_t base_package) {
  impl_->packages[handle].shadows = base_package + 1;
}

void LayerBuilder::add_installed(Handle handle, const Installed& installed, bool essential) {
  Impl& in = *impl_;
  image::InstalledRecord record{};
  record.package = handle;
  record.row = installed.row;
  record.time = installed.time;
  record.essential = essential ? 1 : 0;
  record.wanted = installed.reason == Reason::Wanted ? 1 : 0;
  record.origin = in.texts.enter(installed.origin);
  copy(record.digest, installed.digest);
  if (installed.hold) {
    record.held = 1;
    record.held_since = installed.hold->since;
    record.held_until = installed.hold->until;
    record.hold_reason = in.texts.enter(installed.hold->reason);
    record.hold_user = in.texts.enter(installed.hold->user);
  }
  in.installed.push_back(record);
}

void LayerBuilder::add_installed_of_base(std::uint32_t base_package, const Installed& installed, bool essential) {
  add_installed(base_package | Impl::kOfBase, installed, essential);
}

}  // namespace hambrel
