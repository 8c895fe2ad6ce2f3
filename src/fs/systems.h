// What the folder of each file system defines besides its reader, told apart by a tag.
#pragma once

#include <memory>
#include <vector>

namespace undershelf {

class Detector;
struct Scene;
struct Assembled;

struct Fat {};
struct Exfat {};
struct Ntfs {};
struct Hfsplus {};

// What recognises pieces of its volumes during a sweep.
std::unique_ptr<Detector> make_detector(Fat);
std::unique_ptr<Detector> make_detector(Exfat);
std::unique_ptr<Detector> make_detector(Ntfs);
std::unique_ptr<Detector> make_detector(Hfsplus);

// Puts former and lost volumes together from what a sweep found.
std::vector<Assembled> assemble(Fat, const Scene& scene);
std::vector<Assembled> assemble(Exfat, const Scene& scene);
std::vector<Assembled> assemble(Ntfs, const Scene& scene);
std::vector<Assembled> assemble(Hfsplus, const Scene& scene);

}  // namespace undershelf
