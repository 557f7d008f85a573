// Handlers that outlive the object that registered them.
#pragma once
#include <memory>
#include <utility>

namespace kwind {

/// Makes handlers harmless once their object is gone: a member of the object, which gives each
/// handler that it registers elsewhere through bind(). Thread: that of the object.
class Lifetime {
 public:
  Lifetime() = default;
  /// Handlers belong to one object: they do not go along with a copy.
  Lifetime(const Lifetime&) = delete;
  Lifetime& operator=(const Lifetime&) = delete;

  /// A handler that returns nothing, and that does nothing once this Lifetime is gone.
  template <class Handler>
  [[nodiscard]] auto bind(Handler handler) const {
    return
        [token = std::weak_ptr<const char>(token_), handler = std::move(handler)](auto&&... args) {
          if (!token.expired()) handler(std::forward<decltype(args)>(args)...);
        };
  }
  /// The same for a handler with a result, which is `otherwise` then.
  template <class Result, class Handler>
  [[nodiscard]] auto bind_or(Result otherwise, Handler handler) const {
    return [token = std::weak_ptr<const char>(token_), otherwise,
            handler = std::move(handler)](auto&&... args) -> Result {
      return token.expired() ? otherwise : handler(std::forward<decltype(args)>(args)...);
    };
  }

 private:
  std::shared_ptr<const char> token_ = std::make_shared<const char>('\0');
};

}  // namespace kwind
