#include "solve/optimize.h"

#include <algorithm>

#include "base/assert.h"

namespace hambrel::solve {

namespace {

/// Counts how many of some literals are true, by a tree; output k (from 0): more than k are. Only in the direction
/// "inputs true, so outputs true", and only up to the bound that was asked for.
class Totalizer {
 public:
  Totalizer(Cdcl& engine, const std::vector<Lit>& inputs) : engine_(engine) { root_ = build(inputs, 0, inputs.size()); }

  std::size_t inputs() const { return nodes_[root_].inputs; }
  Lit output(std::size_t k) {
    extend(root_, k + 1);
    return nodes_[root_].outputs[k];
  }

 private:
  struct Node {
    std::size_t inputs = 0, left = 0, right = 0;
    std::vector<Lit> outputs;
    bool leaf = false;
  };

  std::size_t build(const std::vector<Lit>& inputs, std::size_t first, std::size_t last) {
    HAMBREL_ASSERT(first < last, "something is counted");
    Node node;
    node.inputs = last - first;
    if (node.inputs == 1) {
      node.leaf = true;
      node.outputs = {inputs[first]};
    } else {
      const std::size_t middle = first + node.inputs / 2;
      node.left = build(inputs, first, middle);
      node.right = build(inputs, middle, last);
    }
    nodes_.push_back(std::move(node));
    return nodes_.size() - 1;
  }

  void extend(std::size_t at, std::size_t bound) {
    bound = std::min(bound, nodes_[at].inputs);
    if (nodes_[at].leaf || nodes_[at].outputs.size() >= bound) return;
    const std::size_t left = nodes_[at].left, right = nodes_[at].right;
    extend(left, bound);
    extend(right, bound);
    const std::size_t before = nodes_[at].outputs.size();
    while (nodes_[at].outputs.size() < bound) nodes_[at].outputs.push_back(positive(engine_.new_variable(false)));
    const auto& out = nodes_[at].outputs;
    const auto &a = nodes_[left].outputs, &b = nodes_[right].outputs;
    for (std::size_t i = 0; i <= a.size(); ++i)
      for (std::size_t j = 0; j <= b.size(); ++j) {
        const std::size_t sum = i + j;  // this many are true
        if (sum <= before || sum > bound) continue;
        std::vector<Lit> clause;
        if (i > 0) clause.push_back(~a[i - 1]);
        if (j > 0) clause.push_back(~b[j - 1]);
        clause.push_back(out[sum - 1]);
        engine_.add(clause);
      }
  }

  Cdcl& engine_;
  std::vector<Node> nodes_;
  std::size_t root_ = 0;
};

class Minimizer {
 public:
  Minimizer(Cdcl& engine, const std::vector<Soft>& softs, Assumed assumed) : engine_(engine), assumed_(assumed) {
    for (const Soft& soft : softs) {
      if (soft.weight == 0 || engine.always(soft.lit)) continue;
      if (engine.never(soft.lit)) {
        constant_ += soft.weight;
        continue;
      }
      std::uint64_t& known = weight(soft.lit);
      if (known == 0) original_.push_back(soft.lit);
      known += soft.weight;
    }
    for (const Lit lit : original_) first_weights_.push_back(weight(lit));
    waiting_ = original_;
  }

  Optimum run() {
    best_ = cost();
    best_model_ = engine_.whole_model();
    bool new_model = true;
    while (best_ > bound_) {
      if (new_model) take_up();
      assumptions_.clear();
      for (const Lit lit : active_)
        if (weight(lit) > 0) assumptions_.push_back(lit);
      const Answer answer = engine_.solve(assumptions_);
      if (answer == Answer::Unknown) return settle_for_less();
      new_model = answer == Answer::Yes;
      if (!new_model) {
        relax(engine_.core());
      } else if (const std::uint64_t now = cost(); now < best_) {
        best_ = now;
        best_model_ = engine_.whole_model();
      }
    }
    HAMBREL_ASSERT(best_ == bound_, "the best that was found is the best that can be");
    engine_.restore_model(best_model_);
    // What is left unbroken now is unbroken in every model of this cost.
    for (std::uint32_t code = 0; code < weights_.size(); ++code)
      if (weights_[code] > 0) engine_.add({Lit{code}});
    return {constant_ + best_, true};
  }

 private:
  std::uint64_t cost() const {
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < original_.size(); ++i)
      if (!engine_.model(original_[i])) sum += first_weights_[i];
    return sum;
  }

  std::uint64_t& weight(Lit lit) {
    if (lit.code >= weights_.size()) weights_.resize(2 * engine_.variables(), 0);
    return weights_[lit.code];
  }

  /// Waiting literals that the last model breaks, or all, become assumptions: the heaviest broken ones first.
  void take_up() {
    std::uint64_t heaviest = 0;
    for (const Lit lit : waiting_)
      if (!engine_.model(lit)) heaviest = std::max(heaviest, weight(lit));
    const std::uint64_t least = heaviest / 2 + 1;
    std::erase_if(waiting_, [&](Lit lit) {
      if (weight(lit) < least || (assumed_ == Assumed::Broken && engine_.model(lit))) return false;
      active_.push_back(lit);
      return true;
    });
  }

  /// A set of assumptions that can't all hold.
  void relax(const std::vector<Lit>& core) {
    std::uint64_t least = UINT64_MAX;
    for (const Lit lit : core) least = std::min(least, weight(lit));
    HAMBREL_ASSERT(!core.empty() && least > 0, "only what has weight was assumed");
    bound_ += least;
    HAMBREL_ASSERT(bound_ <= best_, "no model is better than what was proved");
    std::vector<Lit> broken;
    for (const Lit lit : core) {
      weight(lit) -= least;
      if (const auto counted = counts_.find(lit.code); counted != counts_.end()) {
        const auto [totalizer, k] = counted->second;  // "not more than k": the next allows one more
        count(totalizer, k + 1, least);
      }
      broken.push_back(~lit);
    }
    if (core.size() == 1) {
      if (weight(core[0]) == 0) engine_.add({~core[0]});
    } else {
      engine_.add(broken);
      totalizers_.push_back(std::make_unique<Totalizer>(engine_, broken));
      count(totalizers_.back().get(), 1, least);
    }
    std::erase_if(active_, [&](Lit lit) { return weight(lit) == 0; });
  }

  /// "Not more than k of these fail" becomes a soft literal.
  void count(Totalizer* totalizer, std::size_t k, std::uint64_t more) {
    if (k >= totalizer->inputs()) return;
    const Lit lit = ~totalizer->output(k);
    std::uint64_t& known = weight(lit);
    if (known == 0 && std::find(active_.begin(), active_.end(), lit) == active_.end()) active_.push_back(lit);
    known += more;
    counts_[lit.code] = {totalizer, k};
  }

  /// Out of budget: keep what the best model meets.
  Optimum settle_for_less() {
    engine_.restore_model(best_model_);
    for (const Lit lit : original_)
      if (engine_.model(lit)) engine_.add({lit});
    return {constant_ + cost(), false};
  }

  Cdcl& engine_;
  const Assumed assumed_;
  std::vector<std::uint64_t> weights_;  // by literal code: what is not accounted for yet
  std::vector<Lit> original_, waiting_, active_, assumptions_;
  std::vector<std::uint64_t> first_weights_;
  std::unordered_map<std::uint32_t, std::pair<Totalizer*, std::size_t>> counts_;
  std::vector<std::unique_ptr<Totalizer>> totalizers_;
  std::vector<std::uint8_t> best_model_;
  std::uint64_t constant_ = 0, bound_ = 0, best_ = 0;
};

}  // namespace

Optimum minimize(Cdcl& engine, const std::vector<Soft>& softs, Assumed assumed) {
  return Minimizer(engine, softs, assumed).run();
}

}  // namespace hambrel::solve
