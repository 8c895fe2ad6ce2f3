// Puts an export into an image of a disc (ISO 9660 with Rock Ridge and Joliet), by libisofs.
#pragma once

#include <string>

#include "exporting/bag_writer.h"

struct burn_source;

namespace undershelf {

// The bag is first written as a folder beside the image's place, `PATH.files`, since what is in an
// image must be known before any of it can be written; then the image, which is seen at its place
// once it is whole and on the medium (place_archive.h). Neither stays if it cannot be completed.
// The bag is the root of the disc.
class IsoWriter final : public BagSink {
 public:
  // Throws Error (refused) if `PATH.files` is there: nothing is removed that was not made here;
  // TargetFailed.
  explicit IsoWriter(const std::string& path);
  ~IsoWriter() override;

  void start(size_t files) override { bag_->start(files); }
  bool put(BagPart part) override { return bag_->put(std::move(part)); }
  bool has_links() const override { return true; }
  bool can_abandon() const override { return true; }
  BagOutcome finish(const std::string& info, FileSum payload) override;

 private:
  void write_image();
  void copy_image(burn_source& image, const Descriptor& file) const;

  const std::string path_, files_;  // absolute: libisofs takes paths from the root
  std::optional<BagWriter> bag_;
};

}  // namespace undershelf
