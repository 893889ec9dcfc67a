#include "filesystems/tools/btree_cursor.h"

#include <gmock/gmock.h>
#include <map>
#include <random>

namespace dredger {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

// A tree in memory: nodes by address; one that is not there can't be read.
struct Shelf {
    using Key = int;
    using Address = int;
    struct Node {
        int level = 0;
        std::vector<int> keys;
        std::vector<int> children;
    };
    std::optional<Node> read(int address, int level) const {
        const auto found = nodes.find(address);
        if (found == nodes.end() || (level >= 0 && found->second.level != level)) return std::nullopt;
        return found->second;
    }
    int level(const Node& node) const { return node.level; }
    std::size_t count(const Node& node) const { return node.keys.size(); }
    int key(const Node& node, std::size_t i) const { return node.keys[i]; }
    std::optional<int> child(const Node& node, std::size_t i) const { return node.children[i]; }

    std::map<int, Node> nodes = {{1, {2, {10, 50}, {2, 3}}}, {2, {1, {10, 20, 30}, {4, 5, 6}}},
                                 {3, {1, {50, 70}, {7, 8}}}, {4, {0, {10, 11, 12}, {}}},
                                 {5, {0, {}, {}}},           {6, {0, {30, 35}, {}}},
                                 {7, {0, {50, 55}, {}}},     {8, {0, {70}, {}}}};
};

std::vector<int> from(BtreeCursor<Shelf>& cursor, bool is_there) {
    std::vector<int> keys;
    for (; is_there; is_there = cursor.next()) keys.push_back(cursor.key());
    return keys;
}

TEST(BtreeCursor, PassesEveryEntryInOrder) {
    const Shelf shelf;
    BtreeCursor cursor(shelf);
    EXPECT_THAT(from(cursor, cursor.first(1)), ElementsAre(10, 11, 12, 30, 35, 50, 55, 70));
    EXPECT_TRUE(cursor.is_whole());
    EXPECT_TRUE(cursor.at_end());
}

TEST(BtreeCursor, GoesToTheFirstKeyThatIsNotLess) {
    const Shelf shelf;
    for (int key = 0; key < 90; ++key) {
        BtreeCursor cursor(shelf);
        std::vector<int> expected;
        for (const int one : {10, 11, 12, 30, 35, 50, 55, 70})
            if (one >= key) expected.push_back(one);
        EXPECT_EQ(from(cursor, cursor.lower_bound(1, key)), expected) << key;
    }
}

TEST(BtreeCursor, TellsWhichKeysAreLost) {
    Shelf shelf;
    shelf.nodes.erase(4);
    shelf.nodes.erase(8);
    std::vector<std::pair<int, int>> lost;
    BtreeCursor cursor(shelf,
                       [&](int from, const std::optional<int>& to) { lost.emplace_back(from, to.value_or(-1)); });
    EXPECT_THAT(from(cursor, cursor.first(1)), ElementsAre(30, 35, 50, 55));
    EXPECT_THAT(lost, ElementsAre(std::pair(10, 20), std::pair(70, -1)));
    EXPECT_FALSE(cursor.is_whole());
}

TEST(BtreeCursor, LeafByLeafItKnowsWhereEachEnds) {
    const Shelf shelf;
    BtreeCursor cursor(shelf);
    std::vector<std::pair<int, int>> leaves;
    for (bool more = cursor.first(1); more; more = cursor.next_leaf())
        leaves.emplace_back(cursor.key(), cursor.end_of_leaf().value_or(-1));
    EXPECT_THAT(leaves, ElementsAre(std::pair(10, 20), std::pair(30, 50), std::pair(50, 70), std::pair(70, -1)));
}

TEST(BtreeCursor, NodesThatLeadInCirclesAreVisitedOnce) {
    Shelf shelf;
    shelf.nodes[2].children = {1, 4, 4};
    shelf.nodes[3].children = {3, 2};
    BtreeCursor cursor(shelf);
    EXPECT_THAT(from(cursor, cursor.first(1)), ElementsAre(10, 11, 12));
    EXPECT_FALSE(cursor.is_whole());
    BtreeCursor nowhere(shelf);
    EXPECT_THAT(from(nowhere, nowhere.first(99)), IsEmpty());
    EXPECT_FALSE(nowhere.is_whole());
}

TEST(BtreeCursor, EndsInTreesOfNonsense) {
    std::mt19937 random(5);
    for (int trial = 0; trial < 2000; ++trial) {
        Shelf shelf;
        for (auto& [address, node] : shelf.nodes)
            for (int& child : node.children)
                if (random() % 3 == 0) child = static_cast<int>(random() % 10);
        for (auto& [address, node] : shelf.nodes)
            for (int& key : node.keys)
                if (random() % 5 == 0) key = static_cast<int>(random() % 100);
        BtreeCursor cursor(shelf);
        EXPECT_LE(from(cursor, cursor.lower_bound(1, static_cast<int>(random() % 100))).size(), 8U);
    }
}

}  // namespace
}  // namespace dredger
