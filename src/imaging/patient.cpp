#include "imaging/patient.h"

#include <thread>

namespace dredger {

// What a reading thread and those who ask it share.
struct PatientReader::Hand {
    std::mutex lock;
    std::condition_variable changed;
    std::shared_ptr<AlignedBytes> bytes;
    std::uint64_t offset = 0;
    std::size_t length = 0;
    enum class State { idle, asked, read, failed } state = State::idle;
    bool left_alone = false;  // nobody asks it any more

    void run(const Medium& medium) {
        std::unique_lock guard(lock);
        for (;;) {
            changed.wait(guard, [&] { return state == State::asked || left_alone; });
            if (state != State::asked) return;
            const auto into = std::span(*bytes).first(length);
            guard.unlock();
            const bool done = medium.try_read(offset, into);
            guard.lock();
            state = done ? State::read : State::failed;
            changed.notify_all();
        }
    }
};

PatientReader::PatientReader(MediumPtr medium, std::chrono::milliseconds patience)
    : medium_(std::move(medium)), patience_(patience) {}

PatientReader::~PatientReader() {
    if (hand_ == nullptr) return;
    const std::lock_guard guard(hand_->lock);
    hand_->left_alone = true;
    hand_->changed.notify_all();
}

unsigned PatientReader::hanging() const {
    unsigned count = 0;
    for (const auto& hand : hanging_) {
        const std::lock_guard guard(hand->lock);
        count += hand->state == Hand::State::asked ? 1 : 0;
    }
    return count;
}

PatientReader::Answer PatientReader::read(std::uint64_t offset, std::size_t length,
                                          std::shared_ptr<AlignedBytes>& into) {
    const auto asked = std::chrono::steady_clock::now();
    const Outcome outcome = ask(offset, length, into);
    return {outcome, std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now() - asked)};
}

PatientReader::Outcome PatientReader::ask(std::uint64_t offset, std::size_t length,
                                          std::shared_ptr<AlignedBytes>& into) {
    if (patience_.count() == 0)
        return medium_->try_read(offset, std::span(*into).first(length)) ? Outcome::read : Outcome::failed;
    if (hand_ == nullptr) {
        hand_ = std::make_shared<Hand>();
        // On its own: one that hangs can't be waited for.
        std::thread([hand = hand_, medium = medium_] { hand->run(*medium); }).detach();
    }
    std::unique_lock guard(hand_->lock);
    hand_->bytes = into;
    hand_->offset = offset;
    hand_->length = length;
    hand_->state = Hand::State::asked;
    hand_->changed.notify_all();
    const bool answered = hand_->changed.wait_for(guard, patience_, [&] { return hand_->state != Hand::State::asked; });
    if (answered) return hand_->state == Hand::State::read ? Outcome::read : Outcome::failed;
    hand_->left_alone = true;
    guard.unlock();
    hanging_.push_back(std::exchange(hand_, nullptr));
    into = std::make_shared<AlignedBytes>(into->size());
    return Outcome::hangs;
}

}  // namespace dredger
