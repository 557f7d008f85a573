// Deflate and zstd, with and without the memory of what went before. Only sizes are kept.
#include "budget/compressors.h"

#include <zlib.h>
#include <zstd.h>

#include <vector>

#include "kwind/core/assert.h"

namespace kwind::budget {
namespace {

constexpr int kZlibLevel = 6;  // the default of each
constexpr int kZstdLevel = 3;

class Deflate : public Compressor {
 public:
  explicit Deflate(Memory memory) : memory_(memory) {
    // Raw deflate: a negative window leaves out zlib's own header and checksum.
    const int made = deflateInit2(&stream_, kZlibLevel, Z_DEFLATED, -15, 8, Z_DEFAULT_STRATEGY);
    KWIND_ASSERT(made == Z_OK);
  }
  ~Deflate() override { deflateEnd(&stream_); }
  Deflate(const Deflate&) = delete;
  Deflate& operator=(const Deflate&) = delete;

  // Without memory each piece is compressed alone; with it the pieces share one window, as in a
  // stream.
  std::size_t add(std::string_view piece) override {
    if (memory_ == Memory::none) deflateReset(&stream_);
    out_.resize(deflateBound(&stream_, piece.size()) + 64);
    stream_.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(piece.data()));
    stream_.avail_in = static_cast<uInt>(piece.size());
    stream_.next_out = out_.data();
    stream_.avail_out = static_cast<uInt>(out_.size());
    deflate(&stream_, memory_ == Memory::none ? Z_FINISH : Z_SYNC_FLUSH);
    KWIND_ASSERT(stream_.avail_in == 0 && stream_.avail_out > 0);
    const std::size_t size = out_.size() - stream_.avail_out;
    // A sync flush ends in 00 00 ff ff, which both ends can leave out (RFC 7692, 7.2.1).
    return memory_ == Memory::stream ? size - 4 : size;
  }

 private:
  Memory memory_;
  z_stream stream_{};
  std::vector<Bytef> out_;
};

class Zstd : public Compressor {
 public:
  // No content size and no checksum: both would be paid for with each piece.
  explicit Zstd(Memory memory) : memory_(memory), context_(ZSTD_createCCtx()) {
    KWIND_ASSERT(context_ != nullptr);
    ZSTD_CCtx_setParameter(context_, ZSTD_c_compressionLevel, kZstdLevel);
    ZSTD_CCtx_setParameter(context_, ZSTD_c_contentSizeFlag, 0);
  }
  ~Zstd() override { ZSTD_freeCCtx(context_); }
  Zstd(const Zstd&) = delete;
  Zstd& operator=(const Zstd&) = delete;

  // A block is flushed after each piece, so that the receiver can use the piece at once.
  std::size_t add(std::string_view piece) override {
    if (memory_ == Memory::none) ZSTD_CCtx_reset(context_, ZSTD_reset_session_only);
    out_.resize(ZSTD_compressBound(piece.size()) + 64);
    ZSTD_inBuffer in{piece.data(), piece.size(), 0};
    ZSTD_outBuffer out{out_.data(), out_.size(), 0};
    const std::size_t left = ZSTD_compressStream2(
        context_, &out, &in, memory_ == Memory::none ? ZSTD_e_end : ZSTD_e_flush);
    KWIND_ASSERT(left == 0 && in.pos == in.size);
    return out.pos;
  }

 private:
  Memory memory_;
  ZSTD_CCtx* context_;
  std::vector<char> out_;
};

}  // namespace

std::unique_ptr<Compressor> make_deflate(Memory memory) {
  return std::make_unique<Deflate>(memory);
}
std::unique_ptr<Compressor> make_zstd(Memory memory) {
  return std::make_unique<Zstd>(memory);
}

}  // namespace kwind::budget
