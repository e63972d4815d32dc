;; Kivvet in Emacs 29 or later, which has Eglot (for 28 install it as a package): put this into init.el.
(require 'eglot)
(add-to-list 'eglot-server-programs '((conf-toml-mode toml-ts-mode csv-mode) . ("kivvet" "serve")))
(add-hook 'conf-toml-mode-hook
          (lambda () (when (locate-dominating-file default-directory "book.toml") (eglot-ensure))))
