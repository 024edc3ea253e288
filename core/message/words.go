package message

import "strings"

// Words that clients write around a quoted message, in small letters. They only make sure what the structure says, so that a
// language that is missing here is served by the structure alone.

// wrote are words of the line above a quotation ("On … … wrote:").
var wrote = wordSet(
	"wrote writes",                 // English
	"schrieb schreibt geschrieben", // German
	"écrit ecrit",                  // French
	"escribió escribio escribe",    // Spanish
	"scritto scrive",               // Italian
	"escreveu escreve",             // Portuguese
	"schreef geschreven",           // Dutch
	"skrev skrifaði",               // Swedish, Danish, Norwegian, Icelandic
	"kirjoitti",                    // Finnish
	"napisał napisał(a) napisała pisze napisał:", // Polish
	"napsal napsal(a) napsala odesílatel",        // Czech
	"napísal napísal(a) napísala píše",           // Slovak
	"írta",                                       // Hungarian
	"yazdı yazdi yazmış",                         // Turkish
	"пишет написал написал(а) написала",          // Russian
	"пише написав написав(ла) написала",          // Ukrainian
	"написа",                                     // Bulgarian
	"έγραψε",                                     // Greek
	"написао napisao",                            // Serbian
	"כתב כתבה מאת",                               // Hebrew
	"كتب كتبت كتابة",                             // Arabic
	"نوشت",                                       // Persian
	"va escriure",                                // Catalan
	"写道 寫道 님이 書きました のメッセージ 작성 쓴", // written together with what stands around them
)

// together are words that are found within others, in writings without spaces.
var together = []string{"写道", "寫道", "님이", "書きました", "のメッセージ", "작성", "쓴 글"}

// originals are what stands between dashes above a quoted or forwarded message.
var originals = phraseSet("original message", "ursprüngliche nachricht", "originalnachricht", "message d'origine", "message d’origine",
	"message original", "mensaje original", "messaggio originale", "mensagem original", "oorspronkelijk bericht",
	"origineel bericht", "ursprungligt meddelande", "originalmeddelande", "oprindelig meddelelse", "opprinnelig melding",
	"alkuperäinen viesti",
	"wiadomość oryginalna", "oryginalna wiadomość", "původní zpráva", "pôvodná správa", "eredeti üzenet",
	"özgün ileti", "orijinal mesaj",
	"исходное сообщение", "оригінальне повідомлення",
	"оригинално съобщение", "αρχικό μήνυμα", "元のメッセージ", "原始邮件",
	"原始郵件", "원본 메시지",
	"الرسالة الأصلية", "הודעה מקורית", "reply message", "reply to message")

// forwards are what stands between dashes, or alone, above a forwarded message.
var forwards = phraseSet("forwarded message", "begin forwarded message", "weitergeleitete nachricht",
	"anfang der weitergeleiteten nachricht",
	"message transféré", "début du message transféré", "début du message réexpédié", "mensaje reenviado",
	"inicio del mensaje reenviado",
	"messaggio inoltrato", "inizio messaggio inoltrato", "mensagem encaminhada", "início da mensagem encaminhada", "doorgestuurd bericht",
	"begin doorgestuurd bericht", "vidarebefordrat meddelande", "vidarebefordrat brev", "videresendt meddelelse",
	"start på videresendt besked", "videresendt melding", "videresendt besked", "edelleenlähetetty viesti",
	"välitetty viesti alkaa", "välitetty viesti",
	"wiadomość przekazana dalej", "przekazana wiadomość", "początek przekazanej wiadomości", "přeposlaná zpráva",
	"začátek přeposlané zprávy", "preposlaná správa", "továbbított üzenet", "továbbított levél kezdete", "iletilen ileti",
	"iletilen ileti başlangıcı", "пересылаемое сообщение",
	"начало переадресованного сообщения", "переслане повідомлення",
	"початок пересланого повідомлення", "προωθημένο μήνυμα",
	"αρχή προωθημένου μηνύματος", "転送メッセージ", "転送されたメッセージ",
	"转发邮件",
	"开始转发的邮件", "轉寄郵件", "전달된 메시지", "전달된 메시지 시작",
	"رسالة معاد توجيهها", "بدء الرسالة المعاد توجيهها",
	"הודעה שהועברה",
	"תחילת הודעה שהועברה")

// labels are the names of header fields in a header block, by what they name.
var labels = func() map[string]string {
	set := map[string]string{}
	for what, names := range map[string]string{
		"from": "from von de da van från fra lähettäjä od feladó kimden gönderen от від від кого από 差出人 发件人 寄件者 " +
			"보낸 사람 من מאת odesílatel відправник отправитель",
		"sent": "sent date gesendet datum envoyé date enviado enviado el fecha inviato data enviada em enviado " +
			"em verzonden skickat sendt dato lähetetty päivämäärä päiväys wysłano odesláno datum elküldve dátum " +
			"gönderildi tarih отправлено дата надіслано στάλθηκε ημερομηνία 送信日時 日付 发送时间 日期 寄件日期 보낸 날짜 날짜 تم الإرسال التاريخ נשלח תאריך",
		"to": "to an à para a per aan till til vastaanottaja do komu címzett kime alıcı кому προς 宛先 " +
			"收件人 收件者 받는 사람 إلى אל k",
		"subject": "subject betreff objet asunto oggetto assunto onderwerp ämne emne aihe temat předmět tárgy konu " +
			"тема θέμα 件名 主题 主題 主旨 제목 الموضوع נושא",
	} {
		for _, name := range strings.Fields(names) {
			set[name] = what
		}
	}
	for name, what := range map[string]string{"enviado el": "sent", "enviada em": "sent", "enviado em": "sent",
		"보낸 사람": "from", "보낸 날짜": "sent",
		"받는 사람": "to", "تم الإرسال": "sent", "від кого": "from"} {
		set[name] = what
	}
	return set
}()

// wordSet are the words of lines.
func wordSet(lines ...string) map[string]bool {
	set := map[string]bool{}
	for _, line := range lines {
		for _, w := range strings.Fields(line) {
			set[w] = true
		}
	}
	return set
}

func phraseSet(phrases ...string) map[string]bool {
	set := map[string]bool{}
	for _, p := range phrases {
		set[p] = true
	}
	return set
}
