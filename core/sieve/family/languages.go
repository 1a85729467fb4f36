package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// The GNU tools and javac print messages in the language of the user. These are the
// words from the message catalogs of gcc 12, binutils 2.40, GNU make 4.3, bash 5.2
// and javac 17 and 21.

// spokenWords are the words for each severity, in small letters.
var spokenWords = map[problem.Severity]string{
	problem.Error: `erreur|fehler|fejl|fel|fout|greška|hata|lỗi|virhe|σφάλμα|грешка|ошибка|помилка|エラー|錯誤|错误|errore|erro|błąd|오류|chyba|hiba|eraro
		|erreur fatale|error fatal|fatal fejl|fatale fout|fatalna greška|lỗi nghiêm trọng|schwerwiegender fehler|vakava virhe|kohtalokas virhe|ödesdigert fel
		|ölümcül hata|μοιραίο σφάλμα|кобна грешка|критична помилка|критическая ошибка|фатальная ошибка|嚴重錯誤|致命的エラー|致命错误|errore fatale|erro fatal
		|derleyici iç hatası|erreur interne du compilateur|error interno del compilador|intern oversætterfejl|interna greška kompajlera|internal kompiler error
		|interne compilerfout|interner compiler-fehler|internt kompilatorfel|kääntäjän sisäinen virhe|lỗi biên dịch nội bộ|εσωτερικό σφάλμα μεταγλωττιστή
		|внутренняя ошибка компилятора|внутрішня помилка компілятора|унутрашња грешка компилатора|コンパイラ内部エラー|編譯器內部錯誤|编译器内部错误
		|desværre, ikke implementeret|désolé, pas implémenté|ledsen, inte implementerat|lo sentimos, sin implementar|maaf, tidak terimplementasi
		|nicht implementiert|nije implementirano|tiếc là chưa thực hiện|özür, daha gerçeklenmedi|συγγνώμη, δεν έχει υλοποιηθεί|вибачте, не реалізовано
		|извините, није имплементирано|пока не реализовано|对不起，尚未实现|對不起，尚未實作|残念ですが未実装です`,
	problem.Warning: `advarsel|attention|aviso|cảnh báo|let op|peringatan|upozorenje|uyari|uyarı|varning|varoitus|warnung|προειδοποίηση|попередження
		|предупреждение|упозорење|警告|avertissement|avviso|attenzione|ostrzeżenie|경고|varování|figyelmeztetés`,
	problem.Note: `anm|anmerkung|bemærk|bilgi|catatan|ghi chú|huom|napomena|nota|σημείωση|замечание|зауваження|напомена|備考|附注|附註|hinweis|ノート|注|注意`,
}

var spoken = func() map[string]problem.Severity {
	words := map[string]problem.Severity{}
	for severity, list := range spokenWords {
		for _, word := range oneOf(list) {
			words[word] = severity
		}
	}
	return words
}()

// oneOf splits a list at '|', dropping line breaks and indentation.
func oneOf(list string) (words []string) {
	for word := range strings.SplitSeq(list, "|") {
		if line := strings.IndexByte(word, '\n'); line >= 0 {
			word = word[:line]
		}
		words = append(words, word)
	}
	return words
}

// maxSpoken is the length in bytes of the longest severity in any language.
const maxSpoken = 64

// spokenSeverity reads "Warnung:" and "错误：" at the start of a text: the
// severity, and the length of it all.
func spokenSeverity(t []byte) (severity problem.Severity, length int, ok bool) {
	if len(t) < 3 || !lex.IsLetter(t[0]) && t[0] < 0x80 {
		return 0, 0, false
	}
	t = t[:min(len(t), maxSpoken)]
	end := bytes.IndexByte(t, ':')
	length = end + 1
	if wide := bytes.Index(t, []byte("：")); wide >= 0 && (end < 0 || wide < end) {
		end, length = wide, wide+len("：")
	}
	if end < 3 {
		return 0, 0, false
	}
	word := strings.TrimRight(strings.ToLower(string(t[:end])), " \u00a0")
	severity, ok = spoken[word]
	return severity, length, ok
}

// includedFrom are the words that start the chain of includes, "In file included
// from".
var includedFrom = oneOf(`In file included from |Dans le fichier inclus depuis |En el fichero incluido desde |I fil inkluderet fra |I filen inkluderad ifrån
	|In Datei, eingebunden von |Tiedostossa, joka sisällytettiin kohdasta |У файлі, який включено у |在從下述位置 include 的檔案：|次のファイルから読み込み: `)

// requiredFrom are the words that continue the chain of instantiations.
var requiredFrom = oneOf(`required |recursively required |in 'constexpr' |in ‘constexpr’ |[ skipping |erfordert |erforderlich |rekursiv |von hier
	|requis |se requiere |требуемый |рекурсивно |begär|krävs |rekursivt |được yêu cầu |yêu cầu |потрібен `)

// enteringFolder and leavingFolder are make's phrases, with a star for the path.
var enteringFolder = oneOf(`Entering directory *|Verzeichnis * wird betreten|on entre dans le répertoire *|se entra en el directorio *
	|Entrando no diretório *|a entrar na pasta *|ingresso nella directory *|вход в каталог *|входимо до каталогу *|влизане в директория *
	|Улазим у директоријум *|Ulazi se u direktorij *|Vstupuje se do adresáře *|Wejście do katalogu *|Går til katalog *|Går till katalogen *
	|Siirrytään hakemistoon *|Map * wordt binnengegaan|Ag dul isteach i gcomhadlann *|Memasuki direktori *|Vào thư mục *
	|ディレクトリ * に入ります|디렉터리 * 들어감|进入目录*|進入目錄*`)

var leavingFolder = oneOf(`Leaving directory *|Verzeichnis * wird verlassen|on quitte le répertoire *|se sale del directorio *
	|Saindo do diretório *|a sair da pasta *|uscita dalla directory *|выход из каталога *|Залишаю каталог *|излизане от директория *
	|Напуштам директоријум *|Izlazi se iz direktorija *|Opouští se adresář *|Opuszczenie katalogu *|Forlader katalog *|Lämnar katalogen *
	|Poistutaan hakemistosta *|Map * wordt verlaten|Ag dul amach as comhadlann *|Meninggalkan direktori *|Rời khỏi thư mục *
	|ディレクトリ * から出ます|디렉터리 * 나감|离开目录*|離開目錄*`)

// between returns the text at the star of one of the phrases, without the quotes
// around it.
func between(t []byte, phrases []string) (in []byte, ok bool) {
	for _, phrase := range phrases {
		before, behind, _ := strings.Cut(phrase, "*")
		if rest, found := lex.CutPrefix(t, before); found {
			if rest, found = bytes.CutSuffix(bytes.TrimRight(rest, " "), []byte(behind)); found {
				return []byte(unquote(rest)), true
			}
		}
	}
	return nil, false
}

// waitingForJobs is make's phrase that looks like an error and is none.
var waitingForJobs = oneOf(`Waiting for unfinished jobs|Es wird auf noch nicht beendete|Attente des tâches|Se espera a que terminen|Attesa per i processi
	|A aguardar por trabalhos|Ожидание завершения|Очікування завершення|Чекам на недовршене|Čeká se na|Čeka se na|Venter på uafsluttede|Inväntar oavslutade
	|Odotetaan keskeneräisiä|Wachten op onvoltooide|Oczekiwanie na|Menunggu pekerjaan|Đang đợi|未完了のジョブを|끝나지 않은|正在等待未完成的`)

// shellLine is bash's word before the number of a line.
var shellLine = oneOf(`line |Zeile |ligne |línea |riga |linha |строка |рядок |ред |línia |řádek |linje |γραμμή |rivi |liña |redak |baris |줄 |regel
	|linia |linie |riadok |vrstica |rad |satır |dòng |行 |列 |第 `)

// undefinedReference and manyDefinitions are ld's phrases before the symbol.
var (
	undefinedReference = oneOf("undefined reference to |référence indéfinie vers |referencia a `|referência não definida para |riferimento non definito a" +
		"|неопределённая ссылка на |неопределенная ссылка на |невизначене посилання |неопределена отпратка към |недефинисана упута ка |nicht definierter Verweis auf |odefinierad referens till ")
	manyDefinitions = oneOf("multiple definition of |définitions multiples de |definiciones múltiples de |múltiplas definições de |повторное определение " +
		"|повторне визначення |многократни определения за |Mehrfachdefinition von |flere definitioner af |definizione multipla di ")
)
