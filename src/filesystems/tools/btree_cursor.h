// A place in a tree of sorted nodes, as file systems keep them: it goes to a key, and from there on from entry to
// entry. Every node is verified by whoever reads it, and none is visited twice, so that it comes to an end in any
// damage.
#pragma once

#include <functional>
#include <optional>
#include <unordered_set>
#include <utility>
#include <vector>

namespace dredger {

// `Tree` tells how nodes are read and what is in them:
//   Key, Address, Node            types; keys are ordered by <, addresses are hashed
//   std::optional<Node> read(Address, int level) const
//                                 the node of that level, or of any where it is negative; none where it can't be
//                                 believed
//   int level(const Node&) const  0: a leaf
//   std::size_t count(const Node&) const
//   Key key(const Node&, std::size_t) const
//   std::optional<Address> child(const Node&, std::size_t) const
//   bool is_passed_over(Address) const
//                                 where there is one: true of nodes that are not wanted, with all that is below them
template <class Tree>
class BtreeCursor {
  public:
    using Key = typename Tree::Key;
    using Address = typename Tree::Address;
    using Node = typename Tree::Node;
    // Hears of the keys that a child which can't be read tells of: from the first one up to, without it, the second
    // one; none: up to the end.
    using OnLost = std::function<void(const Key& from, const std::optional<Key>& to)>;

    explicit BtreeCursor(const Tree& tree, OnLost on_lost = {}) : tree_(tree), on_lost_(std::move(on_lost)) {}

    // To the first entry; false: there is none.
    bool first(const Address& root) { return begin(read(root, -1), nullptr); }
    bool first(Node root) { return begin(std::move(root), nullptr); }
    // To the first entry whose key is not less.
    bool lower_bound(const Address& root, const Key& key) { return begin(read(root, -1), &key); }

    bool at_end() const { return path_.empty(); }
    const Node& leaf() const { return path_.back().node; }
    std::size_t index() const { return path_.back().index; }
    Key key() const { return tree_.key(leaf(), index()); }
    // Where the keys end that this leaf tells of; none: it is the last one.
    std::optional<Key> end_of_leaf() const { return key_behind(path_.size() - 1); }

    bool next() {
        ++path_.back().index;
        return settle();
    }
    bool next_leaf() {
        path_.pop_back();
        if (!path_.empty()) ++path_.back().index;
        return settle();
    }

    // Whether all that was passed could be read.
    bool is_whole() const { return is_whole_; }

  private:
    struct Stand {
        Node node;
        std::size_t index;
    };

    std::optional<Node> read(const Address& address, int level) {
        return visited_.insert(address).second ? tree_.read(address, level) : std::nullopt;
    }

    bool is_passed_over(const Address& address) const {
        if constexpr (requires { tree_.is_passed_over(address); }) return tree_.is_passed_over(address);
        return false;
    }

    bool begin(std::optional<Node> root, const Key* wanted) {
        path_.clear();
        is_whole_ = is_whole_ && root.has_value();
        if (!root) return false;
        push(std::move(*root), wanted);
        return settle(wanted);
    }

    void push(Node node, const Key* wanted) {
        std::size_t index = 0;
        if (wanted) {
            std::size_t from = 0, to = tree_.count(node);  // the first entry that is not less
            while (from < to) {
                const std::size_t middle = from + (to - from) / 2;
                if (tree_.key(node, middle) < *wanted)
                    from = middle + 1;
                else
                    to = middle;
            }
            index = from;
            // A child tells of keys from its own up to the next one's.
            const bool is_inner = tree_.level(node) > 0;
            const bool is_own = index < tree_.count(node) && !(*wanted < tree_.key(node, index));
            if (is_inner && index > 0 && !is_own) --index;
        }
        path_.push_back({std::move(node), index});
    }

    // Down to a leaf, over all that is empty or can't be read.
    bool settle(const Key* wanted = nullptr) {
        while (!path_.empty()) {
            Stand& here = path_.back();
            if (here.index >= tree_.count(here.node)) {
                path_.pop_back();
                if (!path_.empty()) ++path_.back().index;
                continue;
            }
            const int level = tree_.level(here.node);
            if (level == 0) return true;
            const auto address = tree_.child(here.node, here.index);
            if (address && is_passed_over(*address)) {
                ++here.index;
                continue;
            }
            auto child = address ? read(*address, level - 1) : std::nullopt;
            if (child) {
                push(std::move(*child), wanted);
            } else {
                is_whole_ = false;
                if (on_lost_) on_lost_(tree_.key(here.node, here.index), key_behind(path_.size()));
                ++here.index;
            }
            // Behind the first way down everything is greater.
            if (!path_.empty() && tree_.level(path_.back().node) == 0) wanted = nullptr;
        }
        return false;
    }

    // The key with which goes on what stands behind the entries of the first `levels` nodes of the path.
    std::optional<Key> key_behind(std::size_t levels) const {
        for (std::size_t n = levels; n-- > 0;)
            if (path_[n].index + 1 < tree_.count(path_[n].node)) return tree_.key(path_[n].node, path_[n].index + 1);
        return std::nullopt;
    }

    const Tree& tree_;
    OnLost on_lost_;
    std::vector<Stand> path_;  // from the root down
    std::unordered_set<Address> visited_;
    bool is_whole_ = true;
};

}  // namespace dredger
