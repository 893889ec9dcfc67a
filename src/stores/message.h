// A message as a mail store keeps it, whatever store that is, before it is written as internet mail.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/times.h"
#include "media/medium.h"

namespace dredger::stores {

struct Mailbox {
    std::string name;     // UTF-8; empty: none
    std::string address;  // "ada@skerry.example"; of other systems than the internet's as they write it

    bool empty() const { return name.empty() && address.empty(); }
    // "Ada Skua <ada@skerry.example>"
    std::string text() const {
        if (name.empty() || name == address) return address;
        return address.empty() ? name : name + " <" + address + ">";
    }
};

struct Recipient : Mailbox {
    enum class As { to, cc, bcc } as = As::to;
};

struct Message;

struct Attachment {
    std::string name;                         // UTF-8; empty: none
    std::string type;                         // MIME; empty: not told
    std::string content_id;                   // by which the HTML text shows it; empty: it doesn't
    bool is_inline = false;                   // shown within the text, not beside it
    MediumPtr content;                        // null: it can't be had, or is a message
    std::shared_ptr<const Message> embedded;  // a message within the message
    bool is_whole = true;                     // false: there was more of it, and nothing tells how much

    bool is_there() const { return content != nullptr || embedded != nullptr; }
};

struct Message {
    // What it is by its class ([MS-OXCMSG] 2.2.1.3): mail, or what stores keep as messages beside it.
    enum class Is { mail, contact, appointment, task, note };
    Is is = Is::mail;

    std::string headers;  // the internet header as it came, lines ended by LF or CRLF; empty: not kept
    std::string subject;
    Mailbox from;
    Mailbox sender;  // who sent it for `from`; empty: the same
    std::vector<Recipient> recipients;
    std::optional<FileTime> sent, received, created, changed;
    std::optional<FileTime> begins;           // an appointment
    std::string id, in_reply_to, references;  // with their angle brackets
    bool is_draft = false;
    bool is_signed = false, is_encrypted = false;

    std::string plain;          // UTF-8
    std::string html;           // in the character set that `html_charset` names
    std::string html_charset;   // "utf-8", "windows-1252" ...
    std::string rtf;            // only where neither of the others was to be had
    std::string signed_entity;  // a signed message's MIME body as it was sent, its header first; then nothing else
    std::vector<Attachment> attachments;

    // The other form in which it is written: a vCard, an iCalendar object; empty: as mail.
    std::string card;
    std::string card_extension;  // "vcf", "ics"

    std::vector<std::string> missing;  // what of it can't be had, a sentence each
};

}  // namespace dredger::stores
