"""What the browser tests wait for. A page that is just being loaded has no body yet: that is waited for too."""


def is_saved(page):
    """No edit is under way."""
    page.wait_for_function("() => document.body && !document.body.hasAttribute('data-saving')")


def undo_says(page, words):
    """What can be undone, in the button or, where there is no room, in its tip, once no edit is under way."""
    page.wait_for_function(
        """words => {
          const undo = document.getElementById("undo");
          return undo && !document.body.hasAttribute("data-saving") && `${undo.dataset.tip} ${undo.textContent}`.includes(words);
        }""",
        arg=words,
    )
