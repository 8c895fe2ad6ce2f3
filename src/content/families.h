// All families of formats, one file each. For the library's own use.
#pragma once

#include "content/walk.h"

namespace undershelf::content {

extern const Family kPng, kJpeg, kGif, kBmp, kTiff, kPsd;
extern const Family kIsobmff, kRiff, kMatroska, kAsf, kMpeg;
extern const Family kFlac, kOgg, kMpegAudio;
extern const Family kZip, kPacked, kTar, kAr, kDiscImage;
extern const Family kCompound, kPdf, kSqlite, kText;
extern const Family kProgram, kFont;

}  // namespace undershelf::content
