#include "scanning/telling_copies.h"

#include "lives/finder.h"
#include "media/content.h"

namespace dredger {

Result<bool> tell_copies(Catalog& catalog, std::int64_t source, const MediumPtr& medium, const lives::Habits& habits,
                         Observer& observer) {
    const auto content_of = [&](std::int64_t id) -> std::unique_ptr<Medium> {
        const auto candidate = catalog.find(id);
        if (!candidate || !*candidate || (*candidate)->layout.empty()) return nullptr;
        return open_content(medium, (*candidate)->layout, (*candidate)->record.size);
    };
    lives::RoleFinder finder(habits, content_of);
    std::uint64_t shown = 0;
    const auto goes_on = [&](const char* doing, std::uint64_t done, std::uint64_t total) {
        if (++shown % 256 == 0) observer.progress({doing, done, total, "files", 0, {}});
        return !observer.should_stop();
    };
    bool stopped = false;
    std::uint64_t files = 0;
    DREDGER_CHECK(catalog.each_named(source, [&](const lives::SeenFile& file) {
        finder.look_for_copies(file);
        stopped = !goes_on("looking for safety copies", ++files, 0);
        return !stopped;
    }));
    if (stopped) return false;
    std::uint64_t again = 0;
    if (finder.copies() > 0)
        DREDGER_CHECK(catalog.each_named(source, [&](const lives::SeenFile& file) {
            finder.look_for_documents(file);
            stopped = !goes_on("looking for their documents", ++again, files);
            return !stopped;
        }));
    if (stopped) return false;
    const auto roles = finder.roles([&](std::size_t done) {
        stopped = !goes_on("comparing copies with documents", done, finder.copies());
        return !stopped;
    });
    if (stopped) return false;
    DREDGER_CHECK(catalog.save_copies(source, roles));
    return true;
}

}  // namespace dredger
