;; SPDX-License-Identifier: MIT
;; A real editor's client of the protocol, without a display:
;;   LUCID=build/apps/lucid/lucid PROJECT=$PWD emacs --batch -l tests/serve/editor_of_others.el
;; Needs: emacs-nox elpa-dap-mode
(require 'package)
(package-initialize)
(require 'lsp-mode)
(require 'dap-mode)
(defvar dap-exception-breakpoints nil)
(setq dap-auto-configure-features nil)
(defvar frames nil "Where the program has stood, the latest first.")
(add-hook 'dap-stack-frame-changed-hook
          (lambda (session)
            (let ((frame (dap--debug-session-active-frame session)))
              (when frame
                (push (format "%s:%s" (gethash "name" frame) (gethash "line" frame)) frames)))))
(defun wait-for (frame)
  (let ((end (+ (float-time) 10)))
    (while (and (not (equal (car frames) frame)) (< (float-time) end))
      (accept-process-output nil 0.1)))
  (unless (equal (car frames) frame)
    (message "wanted %s, stands at %s" frame (car frames))
    (kill-emacs 1)))
(defconst kiln (concat (getenv "PROJECT") "/firmware/kiln/"))
(find-file (concat kiln "faults/overshoot/control.c"))
(goto-char (point-min))
(forward-line 16)
(dap-breakpoint-add)
(dap-register-debug-provider
 "lucid" (lambda (conf) (plist-put conf :dap-server-path (list (getenv "LUCID") "serve"))))
(dap-debug (list :type "lucid" :request "launch" :name "kiln"
                 :program (concat kiln "images/overshoot.elf")
                 :bench (concat kiln "kiln.bench.toml")
                 :stopOnEntry :json-false))
(wait-for "control_step:17")
(dap-next (dap--cur-session))
(wait-for "control_step:18")
(dap-step-out (dap--cur-session))
(wait-for "every_second:144")
(message "an editor of others: passed")
