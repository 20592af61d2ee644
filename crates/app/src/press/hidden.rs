//! What keys do while something is asked: with hidden input, as a value, or to be allowed.

use idle_tide_desk::Wanted;
use secrecy::{SecretString, zeroize::Zeroize};

use super::*;

impl App {
    /// A key while something is asked with hidden input, or to be allowed.
    pub(super) fn hidden_key(&mut self, code: KeyCode, control: bool) {
        let before = self.desk.entries().len();
        let typed = (self.desk.asking()).is_some_and(|asking| asking.wanted != Wanted::Consent);
        let leaves = code == KeyCode::Esc || control && matches!(code, KeyCode::Char('c' | 'd'));
        match (typed, code) {
            (true, _) if leaves => {
                self.hidden.zeroize();
                self.desk.answer_secret(None);
            }
            (true, KeyCode::Enter) => {
                let given = SecretString::from(std::mem::take(&mut self.hidden));
                self.desk.answer_secret(Some(given));
            }
            (true, KeyCode::Backspace) => drop(self.hidden.pop()),
            (true, KeyCode::Char('u')) if control => self.hidden.zeroize(),
            (true, KeyCode::Char(character)) if !control => self.hidden.push(character),
            (false, KeyCode::Char('y' | 'Y')) if !control => self.desk.answer_allow(true),
            (false, _) if leaves || matches!(code, KeyCode::Char('n' | 'N')) => {
                self.desk.answer_allow(false)
            }
            _ => {}
        }
        self.settle(before);
    }
}
