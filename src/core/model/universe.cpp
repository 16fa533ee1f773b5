#include "model/universe.h"

#include <algorithm>
#include <tuple>

#include "base/text.h"
#include "model/license.h"

namespace hambrel {

std::string Offer::title() const {
  if (!repository.empty()) return repository + "/" + channel;
  if (is_kept()) return local_path;
  return local_path.find("://") == std::string::npos ? "local file" : "URL";
}

std::string_view text_of(Reason reason) { return reason == Reason::Wanted ? "wanted" : "pulled-in"; }

std::optional<Reason> reason_from(std::string_view text) {
  for (const Reason reason : {Reason::Wanted, Reason::PulledIn})
    if (text_of(reason) == text) return reason;
  return std::nullopt;
}

bool Candidate::offered() const {
  return std::any_of(offers.begin(), offers.end(), [](const Offer& offer) { return offer.followed; });
}

namespace {

std::shared_ptr<const Layer> layer_from(std::string bytes) {
  auto image = Image::open(std::make_shared<OwnedBytes>(std::move(bytes)));
  return std::make_shared<Layer>(std::move(image).value());
}

bool same_file(const Layer& base, std::uint32_t package, const Digest& digest) {
  const image::PackageRecord& record = base.packages[package];
  for (const image::OfferFile& file : base.offer_files.slice(record.offers, record.offer_count))
    if (std::equal(digest.bytes.begin(), digest.bytes.end(), std::begin(file.digest))) return true;
  return false;
}

/// The same version in the base: of several files of it the one with this digest, if one has.
std::optional<std::uint32_t> find_in_base(const Layer& base, const Package& package, const Digest& digest) {
  const auto name = base.find_name(package.name);
  std::optional<std::uint32_t> found;
  if (!name) return found;
  for (const image::ProviderRecord& one : base.providers_of(static_cast<NameId>(*name))) {
    const image::PackageRecord& record = base.packages[one.package];
    if (record.name != *name || base.text(record.version) != package.version.text() ||
        base.text(base.architectures[record.arch]) != package.arch)
      continue;
    if (same_file(base, one.package, digest)) return one.package;
    if (!found) found = one.package;
  }
  return found;
}

}  // namespace

std::string compile_overlay(const Layer& base, const std::vector<Candidate>& candidates, std::string_view key) {
  LayerBuilder builder(&base);
  const auto enter = [&](const Candidate& one) {
    Digest digest = one.offers.empty() ? Digest{} : one.offers[0].digest;
    if (one.installed) digest = one.installed->digest;
    const auto twin = find_in_base(base, one.package, digest);
    if (twin && one.installed && same_file(base, *twin, one.installed->digest)) {
      builder.add_installed_of_base(*twin, *one.installed, one.package.essential);
      return;
    }
    const auto handle = builder.add(one.package);
    if (twin) builder.shadow(handle, *twin);
    if (one.installed) builder.add_installed(handle, *one.installed, one.package.essential);
    for (const Offer& offer : one.offers)
      if (!offer.local_path.empty()) builder.add_offer(handle, offer);
  };
  for (const bool installed : {true, false})  // what is installed is told by its own manifest
    for (const Candidate& one : candidates) {
      const bool local = std::any_of(one.offers.begin(), one.offers.end(),
                                     [](const Offer& offer) { return !offer.local_path.empty(); });
      if (one.installed.has_value() == installed && (installed || local)) enter(one);
    }
  return builder.finish(key).joined();
}

Universe::Universe(std::shared_ptr<const Layer> base, std::shared_ptr<const Layer> overlay, View view)
    : base_(std::move(base)),
      overlay_(std::move(overlay)),
      base_size_(base_->size()),
      names_(base_->names() + overlay_->names()),
      relations_(base_->relation_count() + overlay_->relation_count()),
      view_(std::move(view)),
      matches_(relation_count()),
      versions_(name_count()) {
  resolve_places();
  flags_.assign(size(), 0);
  in_overlay_.assign(base_->names(), false);
  for (const image::ProviderRecord& one : overlay_->providers.all())
    if (one.name < in_overlay_.size()) in_overlay_[one.name] = true;
  for (std::size_t i = 0; i < overlay_->size(); ++i)
    if (const std::uint32_t shadowed = overlay_->packages[i].shadows; shadowed != 0)
      flags_[require(shadowed - 1, base_size_)] = kKnown | kHidden;
  std::vector<std::pair<std::uint64_t, const image::InstalledHead*>> order;
  order.reserve(overlay_->installed_heads.size());
  for (const image::InstalledHead& one : overlay_->installed_heads.all()) {
    if (one.package >= flags_.size()) throw DamagedImage();
    flags_[one.package] |= kInstalled;
    order.emplace_back(place(static_cast<PackageId>(one.package)), &one);
    if ((one.flags & image::InstalledHead::kWanted) != 0) flags_[one.package] |= kWanted;
    if ((one.flags & image::InstalledHead::kHeld) == 0) continue;
    const auto* const record = installed_record(static_cast<PackageId>(one.package));
    if (record == nullptr) throw DamagedImage();
    if (record->held_until == 0 || view_.now == 0 || record->held_until > view_.now) flags_[one.package] |= kHeld;
  }
  // those of the base are in order, and so are those of the overlay
  const auto of_overlay = std::partition_point(order.begin(), order.end(), [&](const auto& one) {
    return is_base(static_cast<PackageId>(one.second->package));
  });
  std::inplace_merge(order.begin(), of_overlay, order.end());
  for (const auto& [place, one] : order) {
    installed_.push_back(static_cast<PackageId>(one->package));
    installed_names_.push_back(static_cast<NameId>(require(one->name, names_)));
    const bool essential = (one->flags & image::InstalledHead::kEssential) != 0;
    if (essential || (!view_.protects.empty() && view_.protects.contains(name(static_cast<NameId>(one->name)))))
      protected_.insert(static_cast<PackageId>(one->package));
  }
  for (const auto& [name, channel] : view_.follows)
    if (const auto id = find_name(name)) follows_.emplace(static_cast<std::uint32_t>(*id), channel);
}

namespace {

/// As the settings would say it for offers that come with their own answers.
View view_of(const std::vector<Candidate>& candidates, std::vector<std::string> architectures) {
  View view;
  view.architectures = std::move(architectures);
  for (const Candidate& one : candidates)
    for (const auto* offers : {&one.offers, &one.elsewhere})
      for (const Offer& offer : *offers) {
        if (offer.repository.empty()) continue;
        auto found = std::find_if(view.repositories.begin(), view.repositories.end(),
                                  [&](const auto& repository) { return repository.name == offer.repository; });
        if (found == view.repositories.end())
          found = view.repositories.insert(found, {offer.repository, offers == &one.offers, offer.rank, {}});
        if (offer.followed || offers == &one.elsewhere) found->channels.push_back(offer.channel);
      }
  return view;
}

std::string compile_base(const std::vector<Candidate>& candidates) {
  LayerBuilder builder;
  for (const Candidate& one : candidates) {
    std::optional<LayerBuilder::Handle> handle;
    for (const auto* offers : {&one.offers, &one.elsewhere})
      for (const Offer& offer : *offers) {
        if (!offer.local_path.empty()) continue;
        if (!handle) handle = builder.add(one.package);
        builder.add_offer(*handle, offer);
      }
  }
  return builder.finish("").joined();
}

}  // namespace

namespace {

std::shared_ptr<const Layer> overlay_of(const Layer& base, std::vector<Candidate> candidates) {
  for (Candidate& one : candidates)  // found together: the same file
    if (one.installed && !one.offers.empty() && one.offers[0].local_path.empty())
      one.installed->digest = one.offers[0].digest;
  return layer_from(compile_overlay(base, candidates, ""));
}

}  // namespace

Universe::Universe(const std::vector<Candidate>& candidates, std::vector<std::string> architectures)
    : Universe(candidates, layer_from(compile_base(candidates)), std::move(architectures)) {}

Universe::Universe(const std::vector<Candidate>& candidates, const std::shared_ptr<const Layer>& base,
                   std::vector<std::string> architectures)
    : Universe(base, overlay_of(*base, candidates), view_of(candidates, std::move(architectures))) {}

void Universe::resolve_places() {
  const auto resolve = [&](const Layer& layer, std::vector<Place>& places) {
    for (const image::PlaceRecord& one : layer.places.all()) {
      Place place;
      place.repository = layer.text(one.repository);
      place.channel = layer.text(one.channel);
      if (place.repository.empty()) place.known = place.enabled = place.followed = true;
      for (const View::Repository& repository : view_.repositories) {
        if (repository.name != place.repository) continue;
        place.known = true;
        place.enabled = repository.enabled;
        place.rank = repository.rank;
        place.followed = std::find(repository.channels.begin(), repository.channels.end(), place.channel) !=
                         repository.channels.end();
      }
      places.push_back(place);
    }
  };
  resolve(*base_, base_places_);
  resolve(*overlay_, overlay_places_);
  const auto judge = [&](const Layer& layer, std::vector<Architecture>& architectures) {
    for (const TextId text : layer.architectures.all()) {
      Architecture one{layer.text(text), 0, false};
      const auto known = std::find(view_.architectures.begin(), view_.architectures.end(), one.name);
      if (known != view_.architectures.end())
        one.group = static_cast<std::uint32_t>(known - view_.architectures.begin());
      one.fits = view_.architectures.empty() || one.name == kIndependent || known != view_.architectures.end();
      architectures.push_back(one);
    }
    architectures.resize(256);  // a damaged number finds one that fits nothing
  };
  judge(*base_, base_architectures_);
  judge(*overlay_, overlay_architectures_);
}

bool Universe::followed(const Place& place, NameId name) const {
  if (!follows_.empty() && !place.repository.empty())
    if (const auto own = follows_.find(static_cast<std::uint32_t>(name)); own != follows_.end())
      return place.channel == own->second;
  return place.followed;
}

std::uint8_t Universe::find_flags(PackageId id) const {
  std::uint8_t found = known_flags(id) | kKnown;
  const image::PackageRecord& one = record(id);
  const bool fits = home_of(id)[one.arch].fits;
  if (fits) found |= kFits;
  if ((found & kInstalled) != 0) found |= kVisible;
  const auto look_at_offers = [&](const Layer& home, const image::PackageRecord& offered,
                                  const std::vector<Place>& places) {
    for (const image::OfferHead& head : home.offers.slice(offered.offers, offered.offer_count)) {
      if (head.place >= places.size()) throw DamagedImage();
      const Place& place = places[head.place];
      if (!place.known || !place.enabled) continue;
      found |= kVisible;
      if (followed(place, static_cast<NameId>(one.name))) found |= kFollowed;
    }
  };
  if ((found & kHidden) == 0 && fits) {
    look_at_offers(layer(id), one, is_base(id) ? base_places_ : overlay_places_);
    if (one.shadows != 0) look_at_offers(*base_, base_->packages[one.shadows - 1], base_places_);
  }
  if ((found & kFollowed) != 0 && is_license_refused(id)) found &= static_cast<std::uint8_t>(~kFollowed);
  std::atomic_ref(flags_[index_of(id)]).store(found, kRelaxed);
  return found;
}

bool Universe::is_license_refused(PackageId id) const {
  if (view_.refused_licenses.empty()) return false;
  const Layer& home = layer(id);
  return hambrel::is_license_refused(home.text(home.details[record(id).details].license), view_.refused_licenses);
}

std::size_t Universe::offer_count(PackageId id) const {
  const image::PackageRecord& one = record(id);
  return one.offer_count + (one.shadows == 0 ? 0U : base_->packages[one.shadows - 1].offer_count);
}

Universe::OfferView Universe::offer(PackageId id, std::size_t i) const {
  const image::PackageRecord* one = &record(id);
  const Layer* home = &layer(id);
  const std::vector<Place>* places = is_base(id) ? &base_places_ : &overlay_places_;
  const NameId name = name_id(id);
  if (i >= one->offer_count) {  // the offers of the one in the base that it stands in for
    i -= one->offer_count;
    one = &base_->packages[one->shadows - 1];
    home = base_.get();
    places = &base_places_;
  }
  const image::OfferHead& head = home->offers[one->offers + i];
  if (head.place >= places->size()) throw DamagedImage();
  const Place& place = (*places)[head.place];
  return {
      place.repository, place.channel, place.rank, place.known && place.enabled, place.known && followed(place, name),
      head.size};
}

std::optional<Universe::OfferView> Universe::best_offer(PackageId id) const {
  std::optional<OfferView> best;
  const auto order = [](const OfferView& one) {
    return std::tuple(one.repository.empty() ? 0 : 1, one.followed ? 0 : 1, one.rank, one.repository, one.channel);
  };
  for (std::size_t i = 0, count = offer_count(id); i < count; ++i)
    if (const OfferView one = offer(id, i); one.enabled && (!best || order(one) < order(*best))) best = one;
  return best;
}

const image::InstalledRecord* Universe::installed_record(PackageId id) const {
  const auto all = overlay_->installed.all();
  const auto found = std::lower_bound(all.begin(), all.end(), static_cast<std::uint32_t>(id),
                                      [](const auto& one, std::uint32_t number) { return one.package < number; });
  return found == all.end() || found->package != static_cast<std::uint32_t>(id) ? nullptr : &*found;
}

const Candidate& Universe::operator[](PackageId id) const {
  const std::lock_guard lock(mutex_);
  auto& made = made_[static_cast<std::uint32_t>(id)];
  if (!made) made = make(id);
  return *made;
}

// ---- lists

std::uint64_t Universe::place(PackageId id) const {
  if (is_base(id)) return (static_cast<std::uint64_t>(id) << 32U) | 0xFFFFFFFFU;
  return (static_cast<std::uint64_t>(record(id).position) << 32U) | own(id);
}

void Universe::sort(std::span<PackageId> ids) const {
  const auto before = [&](PackageId a, PackageId b) { return place(a) < place(b); };
  if (!std::is_sorted(ids.begin(), ids.end(), before)) std::sort(ids.begin(), ids.end(), before);
}

std::vector<PackageId> Universe::all() const {
  std::vector<PackageId> ids;
  for (std::size_t i = 0; i < size(); ++i)
    if (visible(static_cast<PackageId>(i))) ids.push_back(static_cast<PackageId>(i));
  sort(ids);
  return ids;
}

template <typename Function>
void Universe::each_provider(NameId name, Function f) const {
  if (static_cast<std::size_t>(name) < base_->names())
    for (const image::ProviderRecord& one : base_->providers_of(name))
      f(static_cast<PackageId>(one.package), base_->text(one.version));
  for (const image::ProviderRecord& one : overlay_->providers_of(name))
    f(static_cast<PackageId>(one.package), overlay_->text(one.version));
}

std::optional<NameId> Universe::find_name(std::string_view name) const {
  if (const auto found = base_->find_name(name)) return static_cast<NameId>(*found);
  if (const auto found = overlay_->find_name(name)) return static_cast<NameId>(base_->names() + *found);
  return std::nullopt;
}

std::string_view Universe::name(NameId name) const {
  const auto number = static_cast<std::size_t>(name);
  return number < base_->names() ? base_->name(number) : overlay_->name(number - base_->names());
}

std::vector<NameId> Universe::names_with_prefix(std::string_view prefix) const {
  std::vector<NameId> result;
  std::size_t before = 0;
  for (const Layer* one : {base_.get(), overlay_.get()}) {
    const auto [first, last] = one->names_with_prefix(prefix);
    for (std::size_t i = first; i < last; ++i) result.push_back(static_cast<NameId>(before + i));
    before += one->names();
  }
  return result;
}

bool Universe::may_serve(PackageId provider, PackageId asking) const {
  return one_class() || architecture(provider) == kIndependent ||
         architecture_class(provider) == architecture_class(asking);
}

std::vector<PackageId> Universe::unseen_versions_of(std::string_view name) const {
  std::vector<PackageId> ids;
  const auto known = find_name(name);
  if (!known) return ids;
  each_provider(*known, [&](PackageId id, std::string_view) {
    bool of_known_repository = false;
    for (std::size_t i = 0; i < offer_count(id); ++i) {
      const std::string_view repository = offer(id, i).repository;
      of_known_repository =
          of_known_repository || std::any_of(view_.repositories.begin(), view_.repositories.end(),
                                             [&](const View::Repository& one) { return one.name == repository; });
    }
    if (name_id(id) == *known && !visible(id) && of_known_repository && (flags(id) & kHidden) == 0 &&
        (ids.empty() || ids.back() != id))
      ids.push_back(id);
  });
  sort(ids);
  return ids;
}

std::vector<PackageId> Universe::providers_of(std::string_view name) const {
  std::vector<PackageId> ids;
  if (const auto known = find_name(name))
    each_provider(*known, [&](PackageId id, std::string_view) {
      if (visible(id)) ids.push_back(id);
    });
  sort(ids);
  ids.erase(std::unique(ids.begin(), ids.end()), ids.end());
  return ids;
}

std::vector<PackageId> Universe::matching(const Constraint& constraint) const {
  std::vector<PackageId> ids;
  if (const auto known = find_name(constraint.name))
    each_provider(*known, [&](PackageId id, std::string_view has) {
      const bool meets = constraint.op == Operator::Any ||
                         (!has.empty() && version_allowed(constraint.op, constraint.version.text(), has));
      if (meets && visible(id)) ids.push_back(id);
    });
  sort(ids);
  ids.erase(std::unique(ids.begin(), ids.end()), ids.end());
  return ids;
}

std::vector<PackageId> Universe::matching(const Relation& relation) const {
  std::vector<PackageId> result;
  for (const Constraint& one : relation.alternatives)
    for (const PackageId id : matching(one))
      if (std::find(result.begin(), result.end(), id) == result.end()) result.push_back(id);
  return result;
}

std::optional<PackageId> Universe::installed_of(std::string_view name) const {
  std::optional<PackageId> found;
  for (const PackageId id : versions_of(name))
    if (is_installed(id) && (!found || architecture_class(id) < architecture_class(*found))) found = id;
  return found;
}

std::vector<std::string> Universe::names() const {
  std::vector<std::string> result;
  for (const Layer* one : {base_.get(), overlay_.get()})
    for (std::size_t i = 0; i < one->size(); ++i) {
      const auto id = static_cast<PackageId>(one == base_.get() ? i : base_size_ + i);
      if (visible(id) && (result.empty() || result.back() != name(id))) result.emplace_back(name(id));
    }
  std::sort(result.begin(), result.end());
  result.erase(std::unique(result.begin(), result.end()), result.end());
  return result;
}

std::vector<NameId> Universe::answers_to(PackageId id) const {
  std::vector<NameId> names{name_id(id)};
  for (const RelationId relation : relations(id, RelationList::Provides))
    if (const NameId name = constraint(relation, 0).name; std::find(names.begin(), names.end(), name) == names.end())
      names.push_back(name);
  return names;
}

/// Is there any package that says it replaces something of this name? Of most names there is none.
bool Universe::is_replaced(NameId name) const {
  std::call_once(replaced_found_, [&] {
    replaced_.assign(name_count(), false);
    for (const Layer* one : {base_.get(), overlay_.get()})
      for (const image::ReplacerRecord& record : one->replacers.all())
        if (record.name < replaced_.size()) replaced_[record.name] = true;
  });
  return replaced_[static_cast<std::size_t>(name)];
}

std::vector<PackageId> Universe::replacers_of(PackageId old) const {
  std::vector<PackageId> ids;
  const NameId name = name_id(old);
  if (!is_replaced(name)) return ids;
  for (const Layer* one : {base_.get(), overlay_.get()})
    for (const image::ReplacerRecord& record : one->replacers_of(name)) {
      const auto id = static_cast<PackageId>(record.package);
      const ConstraintView view = constraint(static_cast<RelationId>(record.relation), 0);
      if (name_id(id) != name && visible(id) && version_allowed(view.op, view.version, version(old)) &&
          may_serve(id, old))
        ids.push_back(id);
    }
  sort(ids);
  ids.erase(std::unique(ids.begin(), ids.end()), ids.end());
  return ids;
}

// ---- relations

std::vector<PackageId> Universe::matching(RelationId relation, std::size_t alternative) const {
  const ConstraintView one = constraint(relation, alternative);
  std::vector<PackageId> ids;
  each_provider(one.name, [&](PackageId id, std::string_view has) {
    const bool meets = one.op == Operator::Any || (!has.empty() && version_allowed(one.op, one.version, has));
    if (meets && visible(id)) ids.push_back(id);
  });
  sort(ids);
  ids.erase(std::unique(ids.begin(), ids.end()), ids.end());
  return ids;
}

}  // namespace hambrel
