/* What every page uses. No rule of the trade lives in a script. */
import "./menus.js";
import "./status_line.js";
import "./outbox.js";
import "./offline.js";
import "./own_requests.js";
import "./typed.js";
import "./form_queue.js";
import "./screen.js";
import "./answer_bar.js";
import "./remembered.js";
import "./gone_back.js";
import "./files.js";
import "./small_answers.js";
import "./steppers.js";
import "./drawings.js";
import "./keys.js";
