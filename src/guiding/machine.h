// The machine that a rescue runs on: what may be the patient, and where it is safe to write.
#pragma once

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

#include "base/error.h"

namespace dredger::guiding {

struct Patient {
    std::string path;                  // of a device or image
    std::string what;                  // "931.5 GiB, removable: Tern 3000"
    std::vector<std::string> holds;    // a line for each volume, then what lies in the bins
    std::vector<std::string> health;   // what the drive says of its own, where that is not good
    bool is_failing = false;           // it says so
    bool is_readable = true;           // by this user
    bool runs_this_system = false;     // the root of this system lies on it
    std::vector<std::string> written;  // where it is mounted for writing
};

struct Place {
    std::filesystem::path folder;  // empty: not there before attach()
    std::string device;            // what attach() takes; empty where it is there
    std::string what;              // "exFAT FINDS"
    std::uint64_t room = 0;        // bytes; 0: not known yet
};

class Machine {
  public:
    virtual ~Machine() = default;
    // The drives and cards, without what this system needs for itself. May look at each, for some seconds.
    virtual std::vector<Patient> patients() = 0;
    // What is known of a path that was typed.
    virtual Result<Patient> patient(const std::string& path) = 0;
    // Places that writing to can't harm `source`; what can't be written to is not among them.
    virtual std::vector<Place> places(const std::string& source) = 0;
    // The place of a folder that was typed: fails where writing there would endanger the source, or can't be done.
    virtual Result<Place> place(const std::string& folder, const std::string& source) = 0;
    // Whether drives that are not mounted, and shares, can be made places here.
    virtual bool attaches() const = 0;
    virtual Result<Place> attach(const std::string& device_or_share, const std::string& source) = 0;
    // Bytes that can be written below a folder now.
    virtual std::uint64_t room_in(const std::filesystem::path& folder) = 0;
};

}  // namespace dredger::guiding
