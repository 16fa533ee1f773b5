#include "plan/plan_record.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/error.h"
#include "base/json.h"

namespace hambrel::plan {

namespace {

constexpr int kFormat = 1;

template <typename Items, typename Encode>
Json list_of(const Items& items, Encode encode) {
  Json list = Json::array();
  for (const auto& one : items) list.push_back(encode(one));
  return list;
}

template <typename Kind>
Kind kind_at(const Json& value, Kind last) {
  const auto number = value.get<std::int64_t>();
  if (number < 0 || number > static_cast<std::int64_t>(last))
    throw Error(ErrorCode::Invalid, fmt::format("{} is no kind that is known", number));
  return static_cast<Kind>(number);
}

template <typename Kind>
Json encoded_kind(Kind kind) {
  return static_cast<std::int64_t>(kind);
}

std::string text(const Json& value) { return value.get<std::string>(); }

Json encoded(const std::optional<Digest>& digest) { return digest ? digest->hex() : ""; }

std::optional<Digest> digest_in(const Json& value) {
  if (!value.is_string() || text(value).empty()) return std::nullopt;
  return Digest::from_hex(text(value));
}

/// Who vouches, each once: a plan has few of them.
class Vouchers {
 public:
  Json number_of(const Voucher& voucher) {
    const auto found = std::find(all_.begin(), all_.end(), voucher);
    const auto number = found - all_.begin();
    if (found == all_.end()) all_.push_back(voucher);
    return number;
  }
  Json list() const {
    return list_of(all_, [](const Voucher& one) { return Json::array({one.root, one.keys}); });
  }
  bool empty() const { return all_.empty(); }
  static std::vector<Voucher> from(const Json& list) {
    std::vector<Voucher> all;
    for (const Json& one : list)
      all.push_back({one.at(0).get<std::uint64_t>(), one.at(1).get<std::vector<std::string>>()});
    return all;
  }

 private:
  std::vector<Voucher> all_;
};

Json encoded(const Step& step, Vouchers& vouchers) {
  Json list = Json::array({encoded_kind(step.action), step.name, step.arch, step.before, step.after,
                           encoded_kind(step.why.kind), step.why.by, step.why.relation, step.origin,
                           encoded_kind(step.reason), step.download, step.size_change, step.held});
  if (step.voucher) list.push_back(vouchers.number_of(*step.voucher));
  return list;
}

Step step_in(const Json& one, const std::vector<Voucher>& vouchers) {
  Step step;
  step.action = kind_at(one.at(0), Action::Release);
  step.name = text(one.at(1));
  step.arch = text(one.at(2));
  step.before = text(one.at(3));
  step.after = text(one.at(4));
  step.why = {kind_at(one.at(5), WhyKind::OldInConflict), text(one.at(6)), text(one.at(7))};
  step.origin = text(one.at(8));
  step.reason = kind_at(one.at(9), Reason::PulledIn);
  step.download = one.at(10).get<ByteCount>();
  step.size_change = one.at(11).get<std::int64_t>();
  step.held = one.at(12).get<bool>();
  if (one.size() > 13) {
    const auto number = one.at(13).get<std::size_t>();
    if (number >= vouchers.size()) throw Error(ErrorCode::Invalid, "nobody is who vouches for a step");
    step.voucher = vouchers[number];
  }
  return step;
}

Json encoded(const ConfigStep& one) {
  return Json::array({encoded_kind(one.action), one.path, one.package, one.from, encoded(one.before),
                      encoded(one.after), one.leftover});
}

HeldBack held_back_in(const Json& one) {
  HeldBack result;
  result.name = text(one.at(0));
  result.stays = text(one.at(1));
  result.offered = text(one.at(2));
  result.held = one.at(3).get<bool>();
  result.why = text(one.at(4));
  result.by = text(one.at(5));
  if (one.size() > 6) result.renamed = text(one.at(6));
  if (one.size() > 7) result.together = one.at(7).get<std::size_t>();
  return result;
}

ConfigStep config_in(const Json& one) {
  ConfigStep step;
  step.action = kind_at(one.at(0), ConfigAction::Ask);
  step.path = text(one.at(1));
  step.package = text(one.at(2));
  step.from = text(one.at(3));
  step.before = digest_in(one.at(4));
  step.after = digest_in(one.at(5));
  step.leftover = one.at(6).get<bool>();
  return step;
}

Run run_in(const Json& one) {
  Run run;
  run.kind = kind_at(one.at(0), Run::Kind::Hook);
  run.package = text(one.at(1));
  run.program = text(one.at(2));
  run.occasion = text(one.at(3));
  run.why = text(one.at(4));
  run.writes = one.at(5).get<std::vector<std::string>>();
  run.before = one.at(6).get<bool>();
  run.is_new = one.at(7).get<bool>();
  run.left_out = one.at(8).get<bool>();
  return run;
}

ServiceStep service_in(const Json& one) {
  ServiceStep step;
  step.kind = kind_at(one.at(0), ServiceStep::Kind::Reload);
  step.name = text(one.at(1));
  step.package = text(one.at(2));
  step.occasion = text(one.at(3));
  step.stopped_before = one.at(4).get<bool>();
  step.rehearsal = one.at(5).get<std::uint32_t>();
  step.must_run = one.at(6).get<bool>();
  step.check = one.at(7).get<std::vector<std::string>>();
  step.check_seconds = one.at(8).get<std::uint32_t>();
  return step;
}

Plan plan_in(const Json& whole) {
  const auto list = [&](const char* name) { return whole.value(name, Json::array()); };
  Plan plan;
  plan.kind = text(whole.at("kind"));
  plan.proved = whole.value("proved", true);
  const auto vouchers = Vouchers::from(list("vouchers"));
  for (const Json& one : list("steps")) plan.steps.push_back(step_in(one, vouchers));
  for (const Json& one : list("configs")) plan.configs.push_back(config_in(one));
  for (const Json& one : list("notices"))
    plan.notices.push_back({kind_at(one.at(0), Notice::Kind::AccountStays), text(one.at(1)), text(one.at(2))});
  for (const Json& one : list("held_back")) plan.held_back.push_back(held_back_in(one));
  for (const Json& one : list("unneeded")) plan.unneeded.push_back(text(one));
  for (const Json& one : list("links"))
    plan.links.push_back(
        {text(one.at(0)), text(one.at(1)), text(one.at(2)), text(one.at(3)), one.at(4).get<bool>(), text(one.at(5))});
  for (const Json& one : list("follows")) plan.follows.push_back({text(one.at(0)), text(one.at(1)), text(one.at(2))});
  for (const Json& one : list("accounts"))
    plan.accounts.push_back({text(one.at(0)), text(one.at(1)), text(one.at(2)), one.at(3).get<std::uint32_t>(),
                             one.at(4).get<bool>(), one.at(5).get<bool>()});
  for (const Json& one : list("runs")) plan.runs.push_back(run_in(one));
  for (const Json& one : list("questions"))
    plan.questions.push_back({text(one.at(0)),
                              text(one.at(1)),
                              text(one.at(2)),
                              text(one.at(3)),
                              {},
                              {},
                              kind_at(one.at(4), AskStep::From::Default),
                              text(one.at(5))});
  for (const Json& one : list("services")) plan.services.push_back(service_in(one));
  if (whole.contains("without_strays")) {
    const Json& strays = whole["without_strays"];
    plan.without_strays = {strays.at(0).get<std::size_t>(), strays.at(1).get<std::vector<std::string>>()};
  }
  return plan;
}

// Before format 1: the names of that display, which is gone. Never change them.
constexpr const char* kOldWhys[] = {"asked",       "required",       "recommended", "newer",      "replacing",
                                    "replaced-by", "loses-provider", "in-conflict", "makes-room", "stray",
                                    "unneeded",    "undone",         "rolled-back", "damaged"};
constexpr const char* kOldActions[] = {"install",  "upgrade", "downgrade", "remove", "repair", "shelve",
                                       "unshelve", "want",    "unwant",    "hold",   "release"};
constexpr const char* kOldConfigActions[] = {"keep",  "take",  "merge",   "edit", "wait",
                                             "carry", "purge", "restore", "ask"};
constexpr const char* kOldNotices[] = {"config-kept",  "config-displaced", "config-stays-away", "leftover",
                                       "unowned",      "directory-stays",  "changed",           "privileged",
                                       "lost",         "given-up",         "config-unmerged",   "config-unknown",
                                       "own-settings", "open-to-all",      "directory-lower"};

template <typename Kind, std::size_t kCount>
Kind old_kind(const char* const (&names)[kCount], const Json& value) {
  const auto found = std::find(std::begin(names), std::end(names), text(value));
  if (found == std::end(names)) throw Error(ErrorCode::Invalid, fmt::format("\"{}\" is not known", text(value)));
  return static_cast<Kind>(found - std::begin(names));
}

std::string old_text(const Json& object, const char* name) {
  return object.contains(name) && object[name].is_string() ? text(object[name]) : std::string();
}

std::string old_path(const Json& object, const char* name) {
  const std::string path = old_text(object, name);
  return path.starts_with('/') ? path.substr(1) : path;
}

Step old_step(const Json& one) {
  Step step;
  step.action = old_kind<Action>(kOldActions, one.at("action"));
  step.name = old_text(one, "name");
  step.arch = old_text(one, "arch");
  step.before = old_text(one, "before");
  step.after = old_text(one, "after");
  const Json& why = one.at("why");
  step.why = {old_kind<WhyKind>(kOldWhys, why.at("kind")), old_text(why, "by"), old_text(why, "relation")};
  step.origin = old_text(one, "origin");
  step.reason = reason_from(old_text(one, "reason")).value_or(Reason::Wanted);
  step.download = one.value("download", ByteCount{0});
  step.size_change = one.value("size_change", std::int64_t{0});
  step.held = one.value("held", false);
  return step;
}

ConfigStep old_config(const Json& one) {
  ConfigStep step;
  step.action = old_kind<ConfigAction>(kOldConfigActions, one.at("action"));
  step.path = old_path(one, "path");
  step.package = old_text(one, "package");
  step.from = old_path(one, "from");
  step.before = digest_in(one.at("before"));
  step.after = digest_in(one.at("after"));
  step.leftover = one.value("leftover", false);
  return step;
}

/// Each part as far as it can be read: it may be the work of one of several programs.
Plan old_plan(const Json& whole) {
  Plan plan;
  if (!whole.is_object()) return plan;
  plan.kind = old_text(whole, "kind");
  const auto read = [&](const char* name, auto& into, const auto& decode) {
    try {
      for (const Json& one : whole.value(name, Json::array())) into.push_back(decode(one));
    } catch (const Json::exception&) {
      into.clear();
    } catch (const Error&) {
      into.clear();
    }
  };
  read("steps", plan.steps, old_step);
  read("configs", plan.configs, old_config);
  read("notices", plan.notices, [](const Json& one) {
    const auto kind = old_kind<Notice::Kind>(kOldNotices, one.at("kind"));
    return Notice{kind, kind == Notice::Kind::GivenUp ? old_text(one, "path") : old_path(one, "path"),
                  old_text(one, "package")};
  });
  read("unneeded", plan.unneeded, text);
  return plan;
}

}  // namespace

std::string record_of(const Plan& plan) {
  Json whole = {{"format", kFormat}, {"kind", plan.kind}};
  const auto put = [&](const char* name, const auto& items, const auto& encode) {
    if (!items.empty()) whole[name] = list_of(items, encode);
  };
  Vouchers vouchers;
  put("steps", plan.steps, [&](const Step& one) { return encoded(one, vouchers); });
  if (!vouchers.empty()) whole["vouchers"] = vouchers.list();
  put("configs", plan.configs, [](const ConfigStep& one) { return encoded(one); });
  put("notices", plan.notices, [](const Notice& one) {
    return Json::array({encoded_kind(one.kind), one.path, one.package});
  });
  put("held_back", plan.held_back, [](const HeldBack& one) {
    return Json::array({one.name, one.stays, one.offered, one.held, one.why, one.by, one.renamed, one.together});
  });
  put("links", plan.links, [](const LinkStep& one) {
    return Json::array({one.path, one.before, one.after, one.package, one.picked, one.lost});
  });
  put("follows", plan.follows, [](const FollowStep& one) { return Json::array({one.name, one.before, one.after}); });
  put("accounts", plan.accounts, [](const AccountStep& one) {
    return Json::array({one.name, one.package, one.text, one.id, one.group_only, one.goes});
  });
  put("runs", plan.runs, [](const Run& one) {
    return Json::array({encoded_kind(one.kind), one.package, one.program, one.occasion, one.why, one.writes, one.before,
                        one.is_new, one.left_out});
  });
  put("questions", plan.questions, [](const AskStep& one) {
    return Json::array({one.package, one.key, one.text, one.kind, encoded_kind(one.from), one.answer});
  });
  put("services", plan.services, [](const ServiceStep& one) {
    return Json::array({encoded_kind(one.kind), one.name, one.package, one.occasion, one.stopped_before, one.rehearsal,
                        one.must_run, one.check, one.check_seconds});
  });
  put("unneeded", plan.unneeded, [](const std::string& one) { return Json(one); });
  if (!plan.proved) whole["proved"] = false;
  if (plan.without_strays)
    whole["without_strays"] = Json::array({plan.without_strays->held_back, plan.without_strays->dropped});
  return canonical(whole);
}

Plan plan_of(std::string_view record) {
  if (record.empty()) return {};
  try {
    const Json whole = parse_json(record, "the record of a plan");
    if (!whole.is_object() || !whole.contains("format")) return old_plan(whole);
    if (whole["format"] != kFormat) throw Error(ErrorCode::Invalid, "its format is not known");
    return plan_in(whole);
  } catch (const Json::exception& problem) {
    throw Error(ErrorCode::Untrusted, fmt::format("the record of a plan is damaged: {}", problem.what()), {},
                "`hambrel verify` looks at the whole ledger");
  } catch (const Error& problem) {
    throw Error(ErrorCode::Untrusted, "the record of a plan is damaged: " + problem.problem(), {},
                "`hambrel verify` looks at the whole ledger");
  }
}

std::vector<ConfigStep> decisions_of(std::string_view record) {
  if (record.find(R"("configs":[)") == std::string_view::npos) return {};
  if (record.find(R"("configs":[])") != std::string_view::npos) return {};
  return plan_of(record).configs;
}

}  // namespace hambrel::plan
