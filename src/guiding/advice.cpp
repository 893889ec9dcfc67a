#include "guiding/advice.h"

namespace dredger::guiding {

std::vector<std::string> cheaper_ways(const Wanted& wanted) {
    const auto is_wanted = [&](Kind kind) { return wanted.kinds.empty() || wanted.kinds.contains(kind); };
    std::vector<std::string> ways = {
        "A cloud's own bin: who keeps files with a cloud service finds those deleted in the last weeks in the bin of "
        "its web page, also when the computer has forgotten them.",
        "A backup: a second drive in a drawer, a backup that the system makes by itself, a company's server."};
    if (is_wanted(Kind::picture) || is_wanted(Kind::video))
        ways.emplace_back(
            "The phone or camera: its album of recently deleted pictures keeps them for about 30 days; the card may "
            "still be in the camera; the same pictures may have been sent to somebody.");
    if (is_wanted(Kind::document))
        ways.emplace_back(
            "Mail: what was sent or received lies in Sent, Inbox or their bin. The office program: its list of "
            "recent and of unsaved documents.");
    if (is_wanted(Kind::mail))
        ways.emplace_back(
            "The mail provider: its web page shows the server's own bin and archive; another device may still have "
            "the messages.");
    if (is_wanted(Kind::audio))
        ways.emplace_back("The recorder's own memory, apart from its card; the player that music was bought for.");
    ways.emplace_back("Another computer: an old one, or one of a colleague who got a copy.");
    return ways;
}

}  // namespace dredger::guiding
