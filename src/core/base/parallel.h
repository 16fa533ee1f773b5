// Work on many things by several threads.
#pragma once

#include <cstddef>
#include <functional>
#include <future>

namespace hambrel {

/// For std::async: in a thread of its own, or where the system has none to give, when it is waited for.
inline constexpr std::launch kThread = std::launch::async | std::launch::deferred;

/// Runs `work` in so many threads at once, this one among them (or fewer, where the system has none to give), and waits
/// for all of them. Throws what the first of them threw that did, this one being the first of all.
void by_threads(std::size_t threads, const std::function<void()>& work);

/// Calls `work(first, last)` for portions that together are the numbers from 0 to `count`, each in one of up to
/// `workers` threads, this one among them; up to `few` of them are one portion. Returns when all are done, and throws
/// what the foremost of those portions threw that did; after a throw, portions that were not begun are left.
void in_portions(std::size_t count, unsigned workers, std::size_t few,
                 const std::function<void(std::size_t, std::size_t)>& work);

}  // namespace hambrel
