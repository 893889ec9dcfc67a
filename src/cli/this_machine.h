// This machine as the guide sees it: its drives, and what can be written to.
#pragma once

#include "guiding/machine.h"
#include "media/drives.h"

namespace dredger::cli {

class ThisMachine final : public guiding::Machine {
  public:
    // `offered`: folders that are offered first. `attacher`: a program that makes a device or a share ready to be
    // written to and prints its folder; empty: there is none. `left_out`: drives that are nobody's patient.
    ThisMachine(std::vector<std::string> offered, std::string attacher, std::vector<std::string> left_out)
        : offered_(std::move(offered)), attacher_(std::move(attacher)), left_out_(std::move(left_out)) {}

    std::vector<guiding::Patient> patients() override;
    Result<guiding::Patient> patient(const std::string& path) override;
    std::vector<guiding::Place> places(const std::string& source) override;
    Result<guiding::Place> place(const std::string& folder, const std::string& source) override;
    bool attaches() const override { return !attacher_.empty(); }
    Result<guiding::Place> attach(const std::string& device_or_share, const std::string& source) override;
    std::uint64_t room_in(const std::filesystem::path& folder) override;

  private:
    bool is_left_out(const Drive& drive) const;

    std::vector<std::string> offered_;
    std::string attacher_;
    std::vector<std::string> left_out_;
};

}  // namespace dredger::cli
